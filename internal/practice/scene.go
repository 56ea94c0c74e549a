// Package practice is a renderer to practise with. It draws real pictures in
// plain Go, takes as long as its scene says on a node of the given speed, by
// waiting rather than by work, and misbehaves on request. The farm starts it
// as a program like any other renderer; nothing else in Vexillum knows how it
// works inside.
package practice

import (
	"encoding/json"
	"fmt"
	"hash/fnv"
	"math"
	"math/rand/v2"
	"os"
	"slices"
	"time"

	"github.com/dustin/go-humanize"

	"vexillum/internal/core/span"
	"vexillum/internal/plainyaml"
)

// Scene is a practice scene file.
type Scene struct {
	Format  int       `json:"practice"` // version of the file format: 1
	Picture string    `json:"picture"`  // salt, tidal or gannet
	Startup string    `json:"startup"`  // time from launch to the first frame
	Cost    Cost      `json:"cost"`     // reference time a frame
	Noise   float64   `json:"noise"`    // spread of the logarithm of a frame's time
	Seed    uint64    `json:"seed"`
	Memory  string    `json:"memory"` // main memory that it really uses while it renders, such as 300MiB
	Stamp   bool      `json:"stamp"`  // each file says which rendering it is of: no two are alike
	Trouble []Trouble `json:"trouble"`
	// Frames are all of the animation, such as 1-180; a job that says nothing renders them.
	Frames string `json:"frames"`
	// Cameras are those from which it can be seen; a job may choose one.
	Cameras []Camera `json:"cameras"`

	startup time.Duration
	memory  int
}

// Camera is a view of a scene.
type Camera struct {
	Name string  `json:"camera"`
	Pan  float64 `json:"pan"` // to the right, in half heights of the picture
}

// mostMemory bounds what a scene may use up.
const mostMemory = 64 << 30

// Trouble makes frames misbehave.
type Trouble struct {
	Frame  int      `json:"frame"`
	Frames string   `json:"frames"` // first and last, such as 1-240, instead of one
	Does   string   `json:"does"`
	On     []string `json:"on"`    // nodes on which it happens; everywhere when empty
	Until  string   `json:"until"` // a time (RFC 3339) from which on all is well again; empty: for ever

	first, last int
	until       time.Time
}

// The ways to misbehave.
const (
	doesError   = "error"        // exits with 1 and a message
	doesCrash   = "crash"        // ends by a signal
	doesMemory  = "memory"       // says that it is out of memory and exits with 1
	doesLicence = "licence"      // says that there is no licence and exits with 1
	doesFile    = "missing file" // says that a file is not there and exits with 1
	doesPlugin  = "no plug-in"   // says that a plug-in is not there and exits with 1
	doesDenied  = "not allowed"  // says that it may not read a file and exits with 1
	doesPlace   = "place gone"   // says that a place cannot be reached and exits with 1
	doesFull    = "disk full"    // says that a disk is full and exits with 1
	doesBlank   = "blank"        // leaves an empty picture
	doesHang    = "hang"         // never ends by itself
	doesBrood   = "brood"        // computes for nine seconds without a word
	doesNoFile  = "no file"      // exits with 0 and leaves no picture
	doesCut     = "cut off"      // leaves half a file
	doesSize    = "wrong size"   // leaves a picture of another size
	doesSlow    = "slow"         // takes five times as long
	doesNoPass  = "no pass"      // leaves the picture without its last pass
	doesLink    = "link"         // leaves a link to /dev/zero for a picture
	doesPipe    = "pipe"         // leaves a named pipe, into which nobody writes
	doesHuge    = "huge"         // leaves a small file that says it is a picture of 50,000×50,000
	doesChild   = "leaves child" // starts a process that outlives it unless the whole tree is ended
)

var ways = []string{
	doesError, doesCrash, doesMemory, doesLicence, doesHang, doesNoFile, doesCut, doesSize, doesSlow, doesNoPass,
	doesLink, doesPipe, doesHuge, doesChild, doesFile, doesPlugin, doesDenied, doesPlace, doesFull, doesBlank,
	doesBrood,
}

// Cost is the reference time of frames: the same for all, or straight lines
// between points.
type Cost struct {
	points []point
}

type point struct {
	frame float64
	cost  time.Duration
}

// UnmarshalJSON reads "2s" or {"points": [[1, "4s"], [120, "40s"]]}.
func (c *Cost) UnmarshalJSON(data []byte) error {
	var one string
	if json.Unmarshal(data, &one) == nil {
		d, err := time.ParseDuration(one)
		if err != nil || d < 0 {
			return fmt.Errorf("cost %q is not a time like 2s", one)
		}
		c.points = []point{{0, d}}
		return nil
	}
	var many struct {
		Points [][2]any `json:"points"`
	}
	if err := json.Unmarshal(data, &many); err != nil {
		return fmt.Errorf("cost must be a time or {points: [[frame, time], …]}: %w", err)
	}
	for _, p := range many.Points {
		frame, ok := p[0].(float64)
		text, ok2 := p[1].(string)
		d, err := time.ParseDuration(text)
		if !ok || !ok2 || err != nil || d < 0 {
			return fmt.Errorf("cost point %v is not [frame, time]", p)
		}
		c.points = append(c.points, point{frame, d})
	}
	slices.SortFunc(c.points, func(a, b point) int { return int(a.frame - b.frame) })
	return nil
}

// At returns the reference time of a frame, without noise.
func (c Cost) At(frame int) time.Duration {
	if len(c.points) == 0 {
		return 0
	}
	f := float64(frame)
	for i, p := range c.points {
		if f <= p.frame {
			if i == 0 {
				return p.cost
			}
			before := c.points[i-1]
			part := (f - before.frame) / (p.frame - before.frame)
			return before.cost + time.Duration(part*float64(p.cost-before.cost))
		}
	}
	return c.points[len(c.points)-1].cost
}

// ReadScene reads and checks a scene file.
func ReadScene(path string) (*Scene, error) {
	data, err := os.ReadFile(path)
	if err != nil {
		return nil, fmt.Errorf("cannot read the scene: %w", err)
	}
	asJSON, err := plainyaml.ToJSON(data)
	if err != nil {
		return nil, fmt.Errorf("cannot read the scene: %w", err)
	}
	var s Scene
	if err := json.Unmarshal(asJSON, &s); err != nil {
		return nil, fmt.Errorf("cannot read the scene: %w", err)
	}
	if s.Format != 1 {
		return nil, fmt.Errorf("cannot read the scene: it is not a practice scene of format 1")
	}
	if painters[s.Picture] == nil {
		return nil, fmt.Errorf("cannot read the scene: there is no picture %q", s.Picture)
	}
	if s.Memory != "" {
		n, err := humanize.ParseBytes(s.Memory)
		if err != nil || n > mostMemory {
			return nil, fmt.Errorf(
				"cannot read the scene: memory %q is not an amount like 300MiB, or more than %s", s.Memory,
				humanize.IBytes(mostMemory),
			)
		}
		s.memory = int(n)
	}
	if s.Startup != "" {
		if s.startup, err = time.ParseDuration(s.Startup); err != nil {
			return nil, fmt.Errorf("cannot read the scene: startup: %w", err)
		}
	}
	for i := range s.Trouble {
		if err := s.Trouble[i].read(); err != nil {
			return nil, fmt.Errorf("cannot read the scene: %w", err)
		}
	}
	return &s, nil
}

// Pan returns how far a camera is turned; the one without a name looks straight on.
func (s *Scene) Pan(camera string) (float64, error) {
	if camera == "" {
		return 0, nil
	}
	for _, c := range s.Cameras {
		if c.Name == camera {
			return c.Pan, nil
		}
	}
	return 0, fmt.Errorf("the scene has no camera %q", camera)
}

// read takes in what a trouble says.
func (t *Trouble) read() (err error) {
	if !slices.Contains(ways, t.Does) {
		return fmt.Errorf("frame %d does %q, which is none of %q", t.Frame, t.Does, ways)
	}
	t.first, t.last = t.Frame, t.Frame
	if t.Frames != "" {
		if n, err := fmt.Sscanf(t.Frames, "%d-%d", &t.first, &t.last); n != 2 || err != nil || t.first > t.last {
			return fmt.Errorf("the frames %q of a trouble are no first and last frame such as 1-240", t.Frames)
		}
	}
	if t.Until != "" {
		if t.until, err = time.Parse(time.RFC3339, t.Until); err != nil {
			return fmt.Errorf("until %q of a trouble is no time such as 2026-03-02T19:30:00Z", t.Until)
		}
	}
	return nil
}

// Does returns how a frame misbehaves on a node at a time, or "".
func (s *Scene) Does(frame int, node string, now time.Time) string {
	for _, t := range s.Trouble {
		if t.first <= frame && frame <= t.last && (len(t.On) == 0 || slices.Contains(t.On, node)) &&
			(t.until.IsZero() || now.Before(t.until)) {
			return t.Does
		}
	}
	return ""
}

// Time returns how long a frame takes on a node of the given speed.
func (s *Scene) Time(frame int, node string, speed float64) time.Duration {
	h := fnv.New64a()
	fmt.Fprintf(h, "%d %s", frame, node)
	r := rand.New(rand.NewPCG(s.Seed, h.Sum64()))
	seconds := s.Cost.At(frame).Seconds() / speed * math.Exp(s.Noise*r.NormFloat64())
	if s.Does(frame, node, time.Time{}) == doesSlow {
		seconds *= 5
	}
	return span.Of(seconds)
}
