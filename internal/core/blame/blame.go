// Package blame tells whose fault failed tries are: a frame's, a machine's or one
// device's of it, a run's, that of a place, a licence or a version of a renderer, or
// chance. It weighs all tries of a while together by a small probability model and says
// how sure it is. It knows suspects by name only: neither the farm nor what follows from
// a verdict.
//
// # Model
//
// Each suspect is well, or faulty with a chance that is set for its kind. One that is
// well spoils nothing. A faulty one spoils each try in which it takes part with a rate of
// its own, which is not known: a few rates are weighed, again by kind. Suspects spoil
// tries independently of one another, and so does chance, seldom. A try goes well when
// nobody spoils it (a noisy or). What a suspect spoils shows by causes that fit its kind.
//
// Who cannot have much to do with it is left out, and what has nothing in common is judged
// apart. Where that is little, all ways in which none, one or two suspects are at fault are
// weighed exactly. Where it is more, the posterior of each suspect is worked out given how
// likely the others are to have spoilt the same tries, by turns until it stands still (mean
// field); that is begun from several theories, and what comes out is weighed by how well it
// explains all. So what one suspect explains is no evidence against others any more.
package blame

// Kind is what a suspect is.
type Kind uint8

// The kinds of suspect.
const (
	Chance   Kind = iota // nobody: it happens
	Frame                // a frame that cannot be rendered, or not always
	Heavy                // a frame that is too heavy for machines of a size
	Node                 // a machine
	Device               // a graphics device of a machine
	Run                  // all of a run
	Place                // where scenes are read or frames go, for a while
	Licence              // a licence, for a while
	Renderer             // a version of a renderer
	kinds
)

var kindNames = [kinds]string{
	"chance", "frame", "frame on small nodes", "node", "device", "run", "place", "licence", "renderer",
}

// String returns the name of a kind, as it is kept.
func (k Kind) String() string { return kindNames[k] }

// Surrounds reports whether a suspect of this kind stands around nodes and runs: what it
// spoils waits for it, and nobody else is to blame.
func (k Kind) Surrounds() bool { return k == Place || k == Licence || k == Renderer }

// Suspect is somebody who may be to blame.
type Suspect struct {
	Kind Kind
	Name string // of a place, a licence, a renderer or a device
	Of   string // version of a renderer
	ID   int64  // of a node or run
	Sub  int64  // frame of a run
	// Era tells apart times between which somebody was put right: what was before says
	// nothing about after.
	Era int64
}

// Failure is a try that failed, with all who may be to blame for it. Chance always is.
type Failure struct {
	Cause    string
	Suspects []Suspect
}

// Evidence is what has happened in a while.
type Evidence struct {
	Failures []Failure
	// Passed counts tries that went well in which a suspect took part.
	Passed map[Suspect]float64
	// Prior is how likely suspects are to be faulty about whom more is known than their
	// kind, between 0 and 1.
	Prior map[Suspect]float64
}

// Share is how likely it is that a suspect has spoilt a try, 0 to 1.
type Share struct {
	Suspect Suspect
	Of      float64
}

// Opinion is what follows from evidence.
type Opinion struct {
	// Faulty is how likely each suspect is to be faulty, 0 to 1.
	Faulty map[Suspect]float64
	// Rate is how large a part of its tries a suspect spoils if it is faulty, 0 to 1.
	Rate map[Suspect]float64
	// Shares are, for each of the failures, the suspects by their share, the largest
	// first. They add up to 1.
	Shares [][]Share
}

// By returns who is most likely to have spoilt the i-th of the failures.
func (o *Opinion) By(i int) Share { return o.Shares[i][0] }

// rate is a part of tries that a faulty suspect spoils, and how common that is.
type rate struct{ of, common float64 }

// priors of a kind.
type priors struct {
	faulty float64 // chance that one is
	rates  []rate  // if it is; their commons add up to 1
}

// chanceRate is the part of tries that fail though nobody is at fault.
const chanceRate = 0.001

var priorsOf = [kinds]priors{
	Frame:    {0.004, []rate{{0.3, 0.2}, {0.6, 0.2}, {0.98, 0.6}}},
	Heavy:    {0.05, []rate{{0.98, 1}}},
	Node:     {0.03, []rate{{0.05, 0.15}, {0.15, 0.2}, {0.35, 0.2}, {0.7, 0.1}, {0.98, 0.35}}},
	Device:   {0.005, []rate{{0.15, 0.2}, {0.5, 0.2}, {0.98, 0.6}}},
	Run:      {0.03, []rate{{0.98, 1}}},
	Place:    {0.002, []rate{{0.9, 0.1}, {0.98, 0.9}}},
	Licence:  {0.01, []rate{{0.3, 0.2}, {0.6, 0.2}, {0.98, 0.6}}},
	Renderer: {0.002, []rate{{0.9, 0.1}, {0.98, 0.9}}},
}

// Sure puts a share into words.
func Sure(of float64) string {
	switch {
	case of >= 0.99:
		return "certain"
	case of >= 0.95:
		return "almost certain"
	case of >= 0.8:
		return "very likely"
	case of >= 0.6:
		return "likely"
	case of >= 0.4:
		return "possible"
	}
	return "unclear"
}
