// Package usage is what machines measure of themselves, and how many such
// samples become one: by the minute for a day, by the quarter of an hour for
// ninety days. It measures nothing itself and keeps nothing.
package usage

import "time"

// Sample is what a machine measures of itself at one moment, or on average
// over a while. Rates are bytes a second. What is not known is below 0.
type Sample struct {
	Processor   float64   `json:"processor"`        // part of all cores in use, 0 to 1
	Most        float64   `json:"processor_most"`   // the most of it in that while
	Groups      []float64 `json:"groups,omitempty"` // the same of groups of cores, in order
	Memory      float64   `json:"memory"`           // bytes in use
	MemoryMost  float64   `json:"memory_most"`      // the most of it in that while
	Swap        float64   `json:"swap"`             // bytes in use
	DiskFree    float64   `json:"disk_free"`        // bytes, where frames are staged
	DiskRead    float64   `json:"disk_read"`
	DiskWritten float64   `json:"disk_written"`
	Received    float64   `json:"received"` // over the network
	Sent        float64   `json:"sent"`
	Load        float64   `json:"load"`        // processes that want to run, over a minute
	Temperature float64   `json:"temperature"` // degrees Celsius of the processor
	Devices     []Device  `json:"devices,omitempty"`
}

// Device is what is measured of a graphics device.
type Device struct {
	ID          string  `json:"id"`
	Busy        float64 `json:"busy"`        // 0 to 1
	Memory      float64 `json:"memory"`      // bytes in use
	Temperature float64 `json:"temperature"` // degrees Celsius
}

// Unknown stands for what a machine does not tell.
const Unknown = -1

// Steps of samples that are kept, and for how long.
const (
	Fine    = 5 * time.Second
	Minute  = time.Minute
	Quarter = 15 * time.Minute

	KeepFine    = time.Hour
	KeepMinute  = 24 * time.Hour
	KeepQuarter = 90 * 24 * time.Hour
)

// Most groups of cores and devices of one sample.
const (
	MostGroups  = 16
	MostDevices = 16
)

// Tally gathers samples to one. The zero Tally is empty.
type Tally struct {
	n       int
	values  [valueCount]mean
	most    float64
	memory  float64
	groups  []mean
	devices []deviceTally
}

type deviceTally struct {
	id     string
	values [3]mean
}

// mean is that of what was known.
type mean struct {
	sum float64
	n   int
}

func (m *mean) add(v float64) {
	if v >= 0 { // which no NaN is
		m.sum += v
		m.n++
	}
}

func (m mean) value() float64 {
	if m.n == 0 {
		return Unknown
	}
	return m.sum / float64(m.n)
}

const valueCount = 10

func (s *Sample) fields() [valueCount]*float64 {
	return [valueCount]*float64{
		&s.Processor, &s.Memory, &s.Swap, &s.DiskFree, &s.DiskRead, &s.DiskWritten, &s.Received, &s.Sent, &s.Load,
		&s.Temperature,
	}
}

// Add takes a sample.
func (t *Tally) Add(s Sample) {
	if t.n == 0 {
		t.most, t.memory = Unknown, Unknown
	}
	t.n++
	for i, v := range s.fields() {
		t.values[i].add(*v)
	}
	t.most = max(t.most, s.Processor, s.Most)
	t.memory = max(t.memory, s.Memory, s.MemoryMost)
	for len(t.groups) < min(len(s.Groups), MostGroups) {
		t.groups = append(t.groups, mean{})
	}
	for i := range min(len(s.Groups), len(t.groups)) {
		t.groups[i].add(s.Groups[i])
	}
	for _, d := range s.Devices {
		if to := t.device(d.ID); to != nil {
			to.values[0].add(d.Busy)
			to.values[1].add(d.Memory)
			to.values[2].add(d.Temperature)
		}
	}
}

func (t *Tally) device(id string) *deviceTally {
	for i := range t.devices {
		if t.devices[i].id == id {
			return &t.devices[i]
		}
	}
	if len(t.devices) == MostDevices {
		return nil
	}
	t.devices = append(t.devices, deviceTally{id: id})
	return &t.devices[len(t.devices)-1]
}

// Empty reports whether nothing was taken.
func (t *Tally) Empty() bool { return t.n == 0 }

// Sample returns the mean of what was taken, with the most of processor and
// memory.
func (t *Tally) Sample() Sample {
	s := Sample{Most: t.most, MemoryMost: t.memory}
	for i, v := range s.fields() {
		*v = t.values[i].value()
	}
	for _, g := range t.groups {
		s.Groups = append(s.Groups, g.value())
	}
	for _, d := range t.devices {
		s.Devices = append(
			s.Devices,
			Device{ID: d.id, Busy: d.values[0].value(), Memory: d.values[1].value(), Temperature: d.values[2].value()},
		)
	}
	return s
}

// Roller turns the samples of many nodes into those by the minute and by the
// quarter of an hour. The zero Roller is empty.
type Roller struct {
	open map[int64]*rolling
}

type rolling struct {
	minute, quarter    Tally
	minuteAt, quarter0 time.Time
}

// Row is one sample of one node: of the Step that begins At.
type Row struct {
	Node int64
	At   time.Time
	Step time.Duration
	Sample
}

// Add takes a sample of a node and returns the rows that it completes: those
// of the minute and the quarter before. Samples that come late count for the
// step that is open.
func (r *Roller) Add(node int64, at time.Time, s Sample) []Row {
	if r.open == nil {
		r.open = map[int64]*rolling{}
	}
	o := r.open[node]
	if o == nil {
		o = &rolling{minuteAt: at.Truncate(Minute), quarter0: at.Truncate(Quarter)}
		r.open[node] = o
	}
	done := o.upTo(node, at)
	o.minute.Add(s)
	return done
}

// upTo closes the steps that end before a time.
func (o *rolling) upTo(node int64, at time.Time) (done []Row) {
	if minute := at.Truncate(Minute); minute.After(o.minuteAt) {
		if !o.minute.Empty() {
			s := o.minute.Sample()
			done = append(done, Row{node, o.minuteAt, Minute, s})
			o.quarter.Add(s)
		}
		o.minute, o.minuteAt = Tally{}, minute
	}
	if quarter := at.Truncate(Quarter); quarter.After(o.quarter0) {
		if !o.quarter.Empty() {
			done = append(done, Row{node, o.quarter0, Quarter, o.quarter.Sample()})
		}
		o.quarter, o.quarter0 = Tally{}, quarter
	}
	return done
}

// Recall takes a row of a minute that is on record, after a restart, so that
// the quarter that is open misses nothing.
func (r *Roller) Recall(row Row) {
	if r.open == nil {
		r.open = map[int64]*rolling{}
	}
	o := r.open[row.Node]
	if o == nil {
		o = &rolling{quarter0: row.At.Truncate(Quarter)}
		r.open[row.Node] = o
	}
	o.minuteAt = row.At.Add(Minute)
	o.quarter.Add(row.Sample)
}

// Close returns the rows of all steps that end before a time, also of nodes
// that have fallen silent, and forgets nodes that have nothing open.
func (r *Roller) Close(at time.Time) (done []Row) {
	for node, o := range r.open {
		done = append(done, o.upTo(node, at)...)
		if o.minute.Empty() && o.quarter.Empty() {
			delete(r.open, node)
		}
	}
	return done
}
