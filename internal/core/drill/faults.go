package drill

import (
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"time"

	"vexillum/internal/core/blame"
	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
	"vexillum/internal/core/simulate"
)

// Fault is what is truly wrong with a farm and hidden from it.
type Fault struct {
	Kind   blame.Kind
	What   string // in words
	Node   int    // of a node or device, as in the farm
	Job    int    // of frames or a run, as in the farm
	Frames []int  // of frames
	Outage int    // of surroundings, as in the farm
}

// The faults of farms that are drawn at random.
var faultDraws = []func(*rand.Rand, *simulate.Farm) Fault{
	nodeAlways, nodeSometimes, nodeBig, device, framesBad, framesHeavy, framesSometimes, wrongJob, placeGone,
	licenceGone,
}

// Faulty draws a farm with hidden faults. The seed alone decides: 4 to 16 nodes of unlike
// speed and memory, three runs of two projects side by side, and one to three of these:
// a node that fails always, now and then (a tenth to seven tenths), or big frames alone;
// one device of a node that does; up to eight frames that fail wherever they run, scattered
// or side by side, on small nodes alone, or now and then; a run that is wrong as a whole;
// a place that is gone for a while, and a licence. One try in a thousand fails by chance.
func Faulty(seed uint64) (simulate.Farm, []Fault) {
	r := rand.New(rand.NewPCG(seed, 0xfa17))
	f := simulate.Farm{
		Seed: seed, Start: time.Date(2026, 3, 2, 19, 0, 0, 0, time.UTC), Chance: 0.001,
		Places: []farm.Place{placed("scenes"), placed("salt-frames"), placed("tidal-frames")},
		Projects: []farm.Project{
			{Name: "salt-clock", Weight: 1, Scenes: "scenes", Frames: "salt-frames"},
			{Name: "tidal-room", Weight: 1, Scenes: "scenes", Frames: "tidal-frames"},
		},
	}
	nodes := 4 + r.IntN(13)
	for i := range nodes {
		speed := 0.5 * math.Pow(4, r.Float64())
		n := simulate.Node{
			Name: fmt.Sprintf("kiln-%02d", i+1), Speed: speed, Known: speed, Cores: 16, Version: "3.7",
			Memory: []int64{16, 32, 64}[r.IntN(3)] << 30,
		}
		for d := range 1 + r.IntN(3) {
			n.Devices = append(n.Devices, fmt.Sprintf("gpu-%d", d))
		}
		f.Nodes = append(f.Nodes, n)
	}
	f.Nodes[r.IntN(nodes)].Memory = 64 << 30
	devices := r.IntN(3) == 0
	for i := range 3 {
		count := 40 + r.IntN(160)
		spec := farm.Spec{
			Job: fmt.Sprintf(
				"shot_%03d",
				10*(i+1),
			), Project: []string{"salt-clock", "tidal-room"}[i%2], Kind: farm.Final,
			Recipe: []string{"povray", "practice"}[i%2], Tries: 3, StartOn: 3,
			Mode:   []farm.Mode{farm.ModeFeed, farm.ModeRange, farm.ModeSingle}[r.IntN(3)],
			Frames: frames.Of(frames.Span{First: 1, Last: count}),
		}
		if devices {
			spec.Takes = farm.Amounts{Cores: 4, Devices: 1}
		}
		if i == 2 {
			spec.Licence = &farm.LicenceNeed{Name: "sculpt"}
		}
		costs := hills(r, count)
		scale := 15 + 40*r.Float64()
		for k := range costs {
			costs[k] *= scale
		}
		f.Jobs = append(f.Jobs, simulate.Job{
			Spec: spec, Costs: costs, Startup: 2 + 10*r.Float64(), Noise: 0.1 * r.Float64(),
			Submitted: float64(i) * 60 * r.Float64(),
		})
	}
	var faults []Fault
	for range 1 + r.IntN(3) {
		if fault := faultDraws[r.IntN(len(faultDraws))](r, &f); fault.What != "" {
			faults = append(faults, fault)
		}
	}
	return f, faults
}

// freeNode picks a node that has no fault yet; never the last two that are left.
func freeNode(r *rand.Rand, f *simulate.Farm) (int, bool) {
	var free []int
	for i, n := range f.Nodes {
		if n.Fails == 0 {
			free = append(free, i)
		}
	}
	if len(free) < len(f.Nodes)-1 {
		return 0, false
	}
	return free[r.IntN(len(free))], true
}

func nodeAlways(r *rand.Rand, f *simulate.Farm) Fault {
	i, ok := freeNode(r, f)
	if !ok {
		return Fault{}
	}
	f.Nodes[i].Fails = 1
	if r.IntN(2) == 0 {
		f.Nodes[i].FailsIn = 0.5
	}
	if r.IntN(3) == 0 {
		f.Nodes[i].FailsFrom = 600 * r.Float64()
	}
	f.Nodes[i].FailsCause = []string{"", blame.NoStart, blame.WrongOutput}[r.IntN(3)]
	return Fault{Kind: blame.Node, Node: i, What: "a node fails always"}
}

func nodeSometimes(r *rand.Rand, f *simulate.Farm) Fault {
	i, ok := freeNode(r, f)
	if !ok {
		return Fault{}
	}
	f.Nodes[i].Fails = 0.1 + 0.6*r.Float64()
	return Fault{Kind: blame.Node, Node: i, What: "a node fails now and then"}
}

func nodeBig(r *rand.Rand, f *simulate.Farm) Fault {
	i, ok := freeNode(r, f)
	if !ok {
		return Fault{}
	}
	costs := slices.Sorted(slices.Values(f.Jobs[r.IntN(3)].Costs))
	f.Nodes[i].Fails, f.Nodes[i].FailsOver = 1, costs[len(costs)/2]
	return Fault{Kind: blame.Node, Node: i, What: "a node fails big frames"}
}

func device(r *rand.Rand, f *simulate.Farm) Fault {
	i, ok := freeNode(r, f)
	if !ok || f.Jobs[0].Spec.Takes.Devices == 0 || len(f.Nodes[i].Devices) < 2 {
		return Fault{}
	}
	f.Nodes[i].Fails, f.Nodes[i].FailsOn = 0.5+0.5*r.Float64(), f.Nodes[i].Devices[r.IntN(len(f.Nodes[i].Devices))]
	return Fault{Kind: blame.Device, Node: i, What: "a device fails"}
}

// picked draws frames of a job, scattered or side by side.
func picked(r *rand.Rand, f *simulate.Farm) (job int, out []int) {
	job = r.IntN(3)
	last := f.Jobs[job].Spec.Frames.Last()
	count := 1 + r.IntN(8)
	first := 1 + r.IntN(last-count)
	together := r.IntN(2) == 0
	for i := range count {
		if together {
			out = append(out, first+i)
		} else {
			out = append(out, 1+r.IntN(last))
		}
	}
	slices.Sort(out)
	return job, slices.Compact(out)
}

// untouched reports whether nothing is wrong with a job yet.
func untouched(j *simulate.Job) bool {
	return j.Fails == nil && j.Heavy == nil && j.Sometimes == nil && !j.Wrong
}

func framesBad(r *rand.Rand, f *simulate.Farm) Fault {
	job, set := picked(r, f)
	j := &f.Jobs[job]
	if !untouched(j) {
		return Fault{}
	}
	j.Fails, j.FailsCause = set, []string{"", blame.MissingFile, blame.Stalled}[r.IntN(3)]
	return Fault{Kind: blame.Frame, Job: job, Frames: set, What: "frames fail everywhere"}
}

func framesHeavy(r *rand.Rand, f *simulate.Farm) Fault {
	job, set := picked(r, f)
	j := &f.Jobs[job]
	if !untouched(j) {
		return Fault{}
	}
	j.Heavy = map[int]int64{}
	need := []int64{24, 48}[r.IntN(2)] << 30
	for _, frame := range set {
		j.Heavy[frame] = need
	}
	return Fault{Kind: blame.Heavy, Job: job, Frames: set, What: "frames fail on small nodes"}
}

func framesSometimes(r *rand.Rand, f *simulate.Farm) Fault {
	job, set := picked(r, f)
	j := &f.Jobs[job]
	if !untouched(j) {
		return Fault{}
	}
	j.Sometimes = map[int]float64{}
	for _, frame := range set {
		j.Sometimes[frame] = 0.3 + 0.4*r.Float64()
	}
	return Fault{Kind: blame.Frame, Job: job, Frames: set, What: "frames fail now and then"}
}

func wrongJob(r *rand.Rand, f *simulate.Farm) Fault {
	job := r.IntN(3)
	j := &f.Jobs[job]
	if !untouched(j) {
		return Fault{}
	}
	j.Wrong, j.FailsIn = true, []float64{0, 0.5, 5}[r.IntN(3)]
	j.FailsCause = []string{"", blame.MissingFile, blame.SceneError, blame.NoFrame}[r.IntN(4)]
	j.Spec.Frames = frames.Of(frames.Span{First: 1, Last: wrongFrames})
	costs := make([]float64, wrongFrames)
	for i := range costs {
		costs[i] = j.Costs[i%len(j.Costs)]
	}
	j.Costs = costs
	return Fault{Kind: blame.Run, Job: job, What: "a run is wrong"}
}

// wrongFrames is how many frames a run has that is wrong as a whole.
const wrongFrames = 10_000

func outage(r *rand.Rand, f *simulate.Farm, o simulate.Outage, kind blame.Kind) Fault {
	o.From = 30 + 600*r.Float64()
	o.To = o.From + 30*math.Pow(30, r.Float64())
	f.Outages = append(f.Outages, o)
	return Fault{Kind: kind, Outage: len(f.Outages) - 1, What: fmt.Sprintf("%s goes", o.Of)}
}

// placeGone lets a place go: what is read there is missing, and what is written there is
// not delivered, unless it is seen that it is gone.
func placeGone(r *rand.Rand, f *simulate.Farm) Fault {
	name := f.Places[r.IntN(len(f.Places))].Name
	cause := blame.Delivery
	if name == "scenes" {
		cause = blame.MissingFile
	}
	if r.IntN(3) == 0 {
		cause = blame.PlaceGone
	}
	return outage(r, f, simulate.Outage{
		Of: farm.Surrounding{Kind: farm.SurroundingPlace, Name: name}, Cause: cause,
	}, blame.Place)
}

func licenceGone(r *rand.Rand, f *simulate.Farm) Fault {
	return outage(r, f, simulate.Outage{
		Of: farm.Surrounding{Kind: farm.SurroundingLicence, Name: "sculpt"}, Cause: blame.NoLicence,
	}, blame.Licence)
}

// placed returns a place with a folder of its own.
func placed(name string) farm.Place {
	return farm.Place{Name: name, Paths: map[string]string{"linux": "/srv/" + name}}
}
