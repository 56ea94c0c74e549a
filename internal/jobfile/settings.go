package jobfile

import (
	"cmp"
	"fmt"
	"maps"
	"math"
	"reflect"
	"strconv"
	"strings"
	"time"

	"github.com/dustin/go-humanize"

	"vexillum/internal/wire"
)

// Over returns settings with what others say in their place. Values of the recipe are put
// together name by name; everything else counts as a whole.
func (s Settings) Over(over Settings) Settings {
	out := s
	from, to := reflect.ValueOf(over), reflect.ValueOf(&out).Elem()
	for i := range from.NumField() {
		if f := from.Field(i); !f.IsZero() {
			to.Field(i).Set(f)
		}
	}
	out.Values = together(s.Values, over.Values)
	return out
}

// Over returns what is said of a proof with what others say in its place.
func (p Proof) Over(over Proof) Proof {
	out := Settings{Passes: p.Passes, Scale: p.Scale, Priority: p.Priority, Values: p.Values}.Over(
		Settings{Passes: over.Passes, Scale: over.Scale, Priority: over.Priority, Values: over.Values},
	)
	return Proof{
		Every: cmp.Or(over.Every, p.Every), Scale: out.Scale, Values: out.Values, Passes: out.Passes,
		Priority: out.Priority,
	}
}

func together(a, b map[string]Text) map[string]Text {
	if len(a)+len(b) == 0 {
		return nil
	}
	out := maps.Clone(a)
	if out == nil {
		out = map[string]Text{}
	}
	maps.Copy(out, b)
	return out
}

// over is Settings.Over for all of a job.
func (j Job) over(over Job) Job {
	out := j
	from, to := reflect.ValueOf(over), reflect.ValueOf(&out).Elem()
	for i := range from.NumField() {
		if f := from.Field(i); !from.Type().Field(i).Anonymous && !f.IsZero() {
			to.Field(i).Set(f)
		}
	}
	out.Settings = j.Settings.Over(over.Settings)
	return out
}

// WrongError says which field of settings cannot be, and why.
type WrongError struct {
	Field string
	What  string
}

// Error says what is wrong.
func (e *WrongError) Error() string { return e.What }

func wrong(field, text string, args ...any) error {
	return &WrongError{field, fmt.Sprintf(text, args...)}
}

// Apply puts settings into what is submitted. A scale counts of the size that they say, or
// else of the scene's; see [wire.Submit]. The error is a *[WrongError].
func (s Settings) Apply(in *wire.Submit) (err error) {
	if s.Size != "" {
		if in.Width, in.Height, err = ParseSize(s.Size); err != nil {
			return wrong("size", "%v", err)
		}
	}
	if s.Scale != "" {
		if in.Scale, err = ParseScale(s.Scale); err != nil {
			return wrong("scale", "%v", err)
		}
	}
	for name, value := range s.Values {
		if in.Values == nil {
			in.Values = map[string]string{}
		}
		in.Values[name] = string(value)
	}
	set(&in.Passes, s.Passes)
	if needs := s.needs(); needs != "" {
		in.Needs = needs
	}
	setText(&in.Priority, s.Priority)
	setText(&in.Ceiling, string(s.Ceiling))
	if s.Takes != nil {
		takes := wire.Amounts{Cores: s.Takes.Cores, Devices: s.Takes.Devices}
		if s.Takes.Memory != "" {
			n, err := humanize.ParseBytes(s.Takes.Memory)
			if err != nil || n > 64<<40 {
				return wrong("takes.memory", "%q is not an amount of memory; write it like 4GiB", s.Takes.Memory)
			}
			takes.MemoryBytes = int64(n)
		}
		in.Takes = &takes
	}
	if s.Tries != 0 {
		in.Tries = s.Tries
	}
	if s.HoldAfter != 0 {
		in.HoldAfter = s.HoldAfter
	}
	if s.Chunk != 0 {
		in.Chunk = s.Chunk
	}
	if s.Stall != "" {
		d, err := time.ParseDuration(s.Stall)
		if err != nil {
			return wrong("stall", "%q is not a time; write it like 30m", s.Stall)
		}
		in.Stall = d.Seconds()
	}
	setText(&in.Sequence, s.Order)
	if s.Wait != nil {
		in.Wait = *s.Wait
	}
	if s.StartOn != "" {
		n, err := strconv.Atoi(string(s.StartOn))
		if s.StartOn != "all" && (err != nil || n < 1) {
			return wrong("start_on", "%q is neither a number of nodes nor all", s.StartOn)
		}
		in.StartOn = &n
	}
	return nil
}

func setText(to *string, text string) {
	if text != "" {
		*to = text
	}
}

func set(to *[]string, list []string) {
	if list != nil {
		*to = list
	}
}

// needs returns the expression over traits that the settings come to.
func (s Settings) needs() string { return Needs(s.Needs, s.Nodes, s.Without, s.Pools) }

// Needs returns the expression over traits that a node has to fit that fits needs, is one of
// some nodes, none of others, and in one of some pools. What is empty is not asked for.
func Needs(needs string, nodes, without, pools []string) string {
	var parts []string
	add := func(text string, join bool) {
		if join {
			text = "(" + text + ")"
		}
		parts = append(parts, text)
	}
	oneOf := func(trait string, names []string) {
		var out []string
		for _, n := range names {
			out = append(out, trait+"=="+n)
		}
		if len(out) > 0 {
			add(strings.Join(out, " || "), len(out) > 1)
		}
	}
	if needs != "" {
		add(needs, len(nodes)+len(without)+len(pools) > 0)
	}
	oneOf("name", nodes)
	for _, n := range without {
		add("!(name=="+n+")", false)
	}
	oneOf("pool", pools)
	return strings.Join(parts, " && ")
}

// ParseSize reads a size in pixels such as 1920x1080.
func ParseSize(text string) (width, height int, err error) {
	w, h, _ := strings.Cut(strings.ReplaceAll(text, "×", "x"), "x")
	width, err1 := strconv.Atoi(w)
	height, err2 := strconv.Atoi(h)
	if err1 != nil || err2 != nil || width < 1 || height < 1 {
		return 0, 0, fmt.Errorf("%q is not a size; write it like 1920x1080", text)
	}
	return width, height, nil
}

// mostScale is how much larger than the scene says pictures may be.
const mostScale = 16

// ParseScale reads a part of a size, such as 50%.
func ParseScale(text string) (float64, error) {
	n, err := strconv.ParseFloat(strings.TrimSuffix(text, "%"), 64)
	if err != nil || !(n > 0) || n > 100*mostScale || math.IsInf(n, 0) {
		return 0, fmt.Errorf("%q is not a scale; write it like 50%%, and at most %d%%", text, 100*mostScale)
	}
	return n / 100, nil
}
