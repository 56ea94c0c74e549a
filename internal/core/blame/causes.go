package blame

// Causes of a failed try. Recipes name them for messages of their renderer; the rest
// of the farm names those that it finds itself.
const (
	Crash       = "crash"         // the renderer ended by a signal or with an unknown error
	NoFrame     = "no frame"      // the renderer ended well but left no picture
	WrongOutput = "wrong output"  // the picture is cut off or of the wrong size
	Blank       = "blank"         // the picture is there and empty
	MissingFile = "missing file"  // the scene needs a file that is not there
	Changed     = "scene changed" // it is not the one any more that the run was submitted with
	SceneError  = "scene error"   // the renderer cannot read the scene
	NoPlugin    = "no plug-in"    // the scene needs an extension that the renderer has not
	Memory      = "out of memory" // the machine had too little
	NoLicence   = "no licence"    // none was free
	DiskFull    = "disk full"     // in staging or at the output
	Stalled     = "stalled"       // no sign of life for far longer than expected
	NodeLost    = "node lost"     // the node process ended or fell silent
	NoStart     = "no start"      // the renderer could not be launched
	NotAllowed  = "not allowed"   // the account of the renderer may not read or write something
	PlaceGone   = "place gone"    // a place cannot be reached
	Output      = "output exists" // a file that is not ours stands in the frame's place
	Delivery    = "not delivered" // the frame could not be put into its place
)

// tells is how much likelier a cause is than others where a suspect of a kind is at
// fault: 1 where nothing speaks against it, 0 where it cannot be.
var tells = map[string][kinds]float64{
	//           chance frame  heavy  node  device  run    place licence renderer
	Crash:       {1.0, 1.0, 0.00, 1.00, 1.0, 1.00, 0.01, 0.00, 1.0},
	NoFrame:     {0.5, 0.7, 0.00, 1.00, 0.5, 1.00, 0.05, 0.00, 1.0},
	WrongOutput: {0.7, 0.5, 0.00, 1.00, 0.7, 1.00, 0.05, 0.00, 0.7},
	Blank:       {0.2, 0.7, 0.00, 0.70, 0.7, 1.00, 0.01, 0.00, 0.7},
	MissingFile: {0.1, 0.9, 0.00, 0.30, 0.0, 1.00, 0.50, 0.00, 0.1},
	Changed:     {0.0, 0.0, 0.00, 0.10, 0.0, 1.00, 0.10, 0.00, 0.0},
	SceneError:  {0.1, 0.2, 0.00, 0.20, 0.0, 1.00, 0.05, 0.00, 0.7},
	NoPlugin:    {0.0, 0.0, 0.00, 1.00, 0.0, 1.00, 0.00, 0.00, 0.7},
	Memory:      {0.3, 0.0, 1.00, 0.05, 0.1, 0.10, 0.00, 0.00, 0.1},
	NoLicence:   {0.1, 0.0, 0.00, 0.02, 0.0, 0.01, 0.00, 1.00, 0.0},
	DiskFull:    {0.1, 0.0, 0.00, 1.00, 0.0, 0.10, 1.00, 0.00, 0.0},
	Stalled:     {0.7, 1.0, 0.00, 1.00, 1.0, 0.50, 0.20, 0.20, 0.3},
	NodeLost:    {1.0, 0.3, 0.00, 1.00, 0.2, 0.20, 0.00, 0.00, 0.1},
	NoStart:     {0.3, 0.0, 0.00, 1.00, 0.3, 0.20, 0.05, 0.00, 1.0},
	NotAllowed:  {0.1, 0.0, 0.00, 0.70, 0.0, 0.50, 1.00, 0.00, 0.1},
	PlaceGone:   {0.1, 0.0, 0.00, 0.30, 0.0, 0.00, 1.00, 0.00, 0.0},
	Output:      {0.0, 1.0, 0.00, 0.00, 0.0, 0.70, 0.00, 0.00, 0.0},
	Delivery:    {0.3, 0.1, 0.00, 0.30, 0.0, 0.10, 1.00, 0.00, 0.0},
}

// May reports whether a cause may come from a suspect of a kind.
func May(cause string, k Kind) bool { return row(cause)[k] >= 0.1 }

// Fits reports whether a cause is one that a suspect of a kind is known for.
func Fits(cause string, k Kind) bool { return row(cause)[k] >= fits }

// fits is from which likelihood on a cause fits a kind.
const fits = 0.5

// Reads reports whether a cause is about something that was to be read.
func Reads(cause string) bool { return cause == MissingFile || cause == SceneError }

// Writes reports whether a cause is about something that was to be written.
func Writes(cause string) bool { return cause == Delivery || cause == Output }

// row returns how much a cause speaks for each kind. One that is not known says as much
// as a crash.
func row(cause string) [kinds]float64 {
	if row, known := tells[cause]; known {
		return row
	}
	return tells[Crash]
}
