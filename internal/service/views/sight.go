package views

import (
	"context"
	"regexp"
	"slices"
	"strings"
	"time"

	"vexillum/internal/core/farm"
	"vexillum/internal/wire"
)

// Another is what a run is called to those who do not see it, where it has to be mentioned;
// elsewhere it is left out.
const Another = "a run of another project"

var runNames = regexp.MustCompile(`[A-Za-z0-9][A-Za-z0-9_.-]*/(?:proof|final|correction)-[0-9]+`)

// veiled takes the names of runs that somebody does not see out of a sentence. Only in the
// loop.
func (b *Board) veiled(text string, sight farm.Sight) string {
	if sight.All() {
		return text
	}
	text = runNames.ReplaceAllStringFunc(text, func(name string) string {
		found := b.s.Named(name)
		sees := func(run *farm.Run) bool { return sight.Sees(run.Spec.Project) }
		if len(found) == 0 || slices.ContainsFunc(found, sees) {
			return name
		}
		return Another
	})
	for _, project := range sight.Hidden() {
		text = withoutWord(text, project, anotherProject)
	}
	return text
}

// anotherProject is what a project is called to those who do not see it.
const anotherProject = "another project"

// withoutWord replaces a name where it is not a part of a longer one.
func withoutWord(text, name, with string) string {
	inName := func(b byte) bool {
		return b == '-' || b == '_' || b >= '0' && b <= '9' || b|0x20 >= 'a' && b|0x20 <= 'z'
	}
	var out strings.Builder
	for {
		at := strings.Index(text, name)
		if at < 0 {
			out.WriteString(text)
			return out.String()
		}
		end := at + len(name)
		out.WriteString(text[:at])
		if at > 0 && inName(text[at-1]) || end < len(text) && inName(text[end]) {
			out.WriteString(name)
		} else {
			out.WriteString(with)
		}
		text = text[end:]
	}
}

// runFor returns a run that somebody sees as it is told to them.
func (b *Board) runFor(run *farm.Run, now time.Time, sight farm.Sight) wire.Run {
	return b.veiledRun(b.RunView(run, now), sight)
}

func (b *Board) veiledRun(v wire.Run, sight farm.Sight) wire.Run {
	if sight.All() {
		return v
	}
	v.Why, v.Forecast.Why = b.veiled(v.Why, sight), b.veiled(v.Forecast.Why, sight)
	v.After = slices.Clone(v.After)
	for i, a := range v.After {
		if !b.sees(farm.RunID(a.Run), sight) {
			v.After[i].Run, v.After[i].Name = 0, Another
		}
	}
	if v.From != 0 && !b.sees(farm.RunID(v.From), sight) {
		v.From = 0
	}
	return v
}

// nodeFor returns a node as it is told to somebody.
func (b *Board) nodeFor(n *farm.Node, now time.Time, sight farm.Sight) wire.Node {
	return b.veiledNode(b.NodeView(n, now), sight)
}

func (b *Board) veiledNode(v wire.Node, sight farm.Sight) wire.Node {
	if sight.All() {
		return v
	}
	v.Why = b.veiled(v.Why, sight)
	v.Works, v.Findings = slices.Clone(v.Works), slices.Clone(v.Findings)
	for i, w := range v.Works {
		if !b.sees(farm.RunID(w.Run), sight) {
			v.Works[i] = wire.Work{
				RunName: Another, Lease: w.Lease, Share: w.Share, Phase: w.Phase, Since: w.Since,
				MemoryBytes: w.MemoryBytes,
			}
		}
	}
	for i, f := range v.Findings {
		v.Findings[i].Sentence = b.veiled(f.Sentence, sight)
	}
	return v
}

// handsFor leaves out of what wants a person what is about runs that one does not see.
func (b *Board) handsFor(hands []wire.NeedHand, sight farm.Sight) []wire.NeedHand {
	if sight.All() {
		return hands
	}
	out := []wire.NeedHand{}
	for _, h := range hands {
		if h.Run != 0 && !b.sees(farm.RunID(h.Run), sight) {
			continue
		}
		h.Sentence, h.Evidence = b.veiled(h.Sentence, sight), b.veiled(h.Evidence, sight)
		out = append(out, h)
	}
	return out
}

// seen returns what somebody sees of a change.
func (b *Board) seen(c change, sight farm.Sight) change {
	if sight.All() {
		return c
	}
	out := change{seq: c.seq, frames: map[string][]wire.FrameEvent{}}
	for _, run := range c.runs {
		if sight.Sees(run.Project) {
			out.runs = append(out.runs, b.veiledRun(run, sight))
		}
	}
	for _, n := range c.nodes {
		out.nodes = append(out.nodes, b.veiledNode(n, sight))
	}
	for name, events := range c.frames {
		for _, e := range events {
			if b.sees(farm.RunID(e.Run), sight) {
				out.frames[name] = append(out.frames[name], e)
			}
		}
	}
	return out
}

// sees reports whether somebody sees a run.
func (b *Board) sees(id farm.RunID, sight farm.Sight) bool {
	run := b.s.Runs[id]
	return run != nil && sight.Sees(run.Spec.Project)
}

// Hidden returns which of some runs somebody does not see.
func (b *Board) Hidden(ctx context.Context, runs []int64, sight farm.Sight) (map[int64]bool, error) {
	out := map[int64]bool{}
	if sight.All() {
		return out, nil
	}
	err := b.do(ctx, func(*transaction) error {
		for _, id := range runs {
			if id != 0 && !b.sees(farm.RunID(id), sight) {
				out[id] = true
			}
		}
		return nil
	})
	return out, err
}

// Veil takes the names of runs that somebody does not see out of sentences.
func (b *Board) Veil(ctx context.Context, sight farm.Sight, texts ...*string) error {
	if sight.All() {
		return nil
	}
	return b.do(ctx, func(*transaction) error {
		for _, text := range texts {
			*text = b.veiled(*text, sight)
		}
		return nil
	})
}
