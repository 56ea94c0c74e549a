package fleet

import (
	"context"
	"fmt"
	"slices"

	"github.com/dustin/go-humanize"
	"github.com/dustin/go-humanize/english"

	"vexillum/internal/core/capacity"
	"vexillum/internal/core/farm"
	"vexillum/internal/service/refusal"
	"vexillum/internal/service/views"
	"vexillum/internal/wire"
)

// Candidate is a node that may take part in a run, as far as the service itself can tell.
type Candidate struct {
	Errander
	Online  bool
	Ready   bool // it would be dealt frames of it as soon as they come
	Roots   farm.Roots
	Answers []wire.PreflightAnswer // to what the service can tell
}

// Candidates returns the nodes that may take part in a run: those that are named, or all
// that its project may use and that fulfil what it needs.
func (d *Desk) Candidates(ctx context.Context, spec farm.Spec, names []string) (out []Candidate, err error) {
	err = d.do(ctx, func(t *transaction) error {
		run := farm.RunSubmitted{Spec: spec}.Opened()
		wanted := map[string]bool{}
		for _, name := range names {
			if t.State.NodeNamed(name) == nil {
				return refusal.New(refusal.Invalid, "nodes", "there is no node %.60q; vexillum nodes shows them", name)
			}
			wanted[name] = true
		}
		env := t.State.LaunchSettingsFor(spec.Project, spec.Recipe)
		p := t.State.Projects[spec.Project]
		for _, n := range t.State.NodeList() {
			switch {
			case !n.RetiredAt.IsZero() || n.EnrolledAt.IsZero():
				continue
			case len(names) > 0 && !wanted[n.Name]:
				continue
			case len(names) == 0 && (t.State.Admits(n, spec.Project) != nil || run.Needs().Missing(n.KnownTraits()) != ""):
				continue
			}
			c := Candidate{
				Errander: Errander{ID: n.ID, Name: n.Name, OS: n.Facts.OS, Settings: views.LaunchValuesView(env)},
				Online:   n.Reach == farm.Online, Roots: t.State.Roots(p, n.Facts.OS),
			}
			c.Answers = t.answers(n, run, env)
			_, offers := n.Facts.Renderer(run.Spec.Recipe)
			c.Ready = c.Online && offers && n.Health != farm.Sidelined &&
				(n.Duty == farm.OnDuty || n.Duty == farm.OffDuty)
			out = append(out, c)
		}
		return nil
	})
	return out, err
}

// answers returns what the service itself knows of a node.
func (t *transaction) answers(n *farm.Node, run *farm.Run, env farm.LaunchSettings) (out []wire.PreflightAnswer) {
	passes := func(question, says string, args ...any) {
		out = append(out, wire.PreflightAnswer{Question: question, Passes: true, Says: fmt.Sprintf(says, args...)})
	}
	fails := func(question, remedy, says string, args ...any) {
		out = append(out, wire.PreflightAnswer{Question: question, Says: fmt.Sprintf(says, args...), Remedy: remedy})
	}
	switch {
	case n.Reach != farm.Online:
		fails(wire.AskReach, "start its node process, or wake the machine", "it is %s", n.Reach)
	case n.Health == farm.Sidelined:
		fails(
			wire.AskReach,
			"look at what it failed, then: vexillum nodes release "+n.Name,
			"it is sidelined: %s",
			n.HealthWhy,
		)
	case n.Duty == farm.Held || n.Duty == farm.Draining:
		fails(wire.AskReach, "vexillum nodes release "+n.Name, "it is %s: %s", n.Duty, n.DutyReason)
	case n.Duty == farm.OffDuty:
		passes(wire.AskReach, "off duty for now")
	default:
		passes(wire.AskReach, "online")
	}
	if r, fit := n.Facts.Renderer(run.Spec.Recipe); !fit && n.Reach == farm.Online && r.Unfit == "" {
		fails(
			wire.AskRenderer, "install it there, then: vexillum nodes probe "+n.Name, "it does not offer %s", run.Spec.Recipe,
		)
	}
	if err := n.CanRunAs(env); err != nil {
		fails(wire.AskAccount, "start its node process as that account, or as root", "%v", err)
	}
	if l := run.Spec.Licence; l != nil {
		free, counted := capacity.LicencesFree(t.State, run, 0, t.Now)
		switch {
		case !counted:
			passes(wire.AskLicence, "nobody counts %s", l.Name)
		case t.State.Licences[l.Name] != nil && t.State.Licences[l.Name].Count == 0:
			fails(wire.AskLicence, "vexillum licence set "+l.Name+" --count N", "there is no licence %s at all", l.Name)
		case free < 1:
			passes(wire.AskLicence, "all in use for now")
		default:
			passes(wire.AskLicence, "%d free", free)
		}
	}
	need, offers := run.Spec.Takes.MemoryBytes, n.Facts.MemoryBytes
	if most := n.Settings.Caps.MemoryBytes; most > 0 {
		offers = min(offers, most)
	}
	if learned, known := t.d.views.Memory(run); known {
		need = max(need, learned)
	}
	switch {
	case need == 0 || offers == 0:
		passes(wire.AskMemory, "%s", sizeOr(offers))
	case need > offers:
		fails(
			wire.AskMemory, "choose nodes with more, such as --needs 'memory>="+humanize.IBytes(uint64(need))+"'",
			"a launch takes %s, and it offers %s", humanize.IBytes(uint64(need)), humanize.IBytes(uint64(offers)),
		)
	default:
		passes(wire.AskMemory, "%s of %s", humanize.IBytes(uint64(need)), humanize.IBytes(uint64(offers)))
	}
	devices(n, run, passes, fails)
	return out
}

// devices answers whether a node offers the graphics devices that a lease takes.
func devices(
	n *farm.Node, run *farm.Run, passes func(question, says string, args ...any),
	fails func(question, remedy, says string, args ...any),
) {
	want := run.Spec.Takes.Devices
	if want == 0 {
		return
	}
	have, aside := len(n.Facts.Devices)-len(n.Settings.Caps.KeptDevices), 0
	for _, d := range n.Facts.Devices {
		if n.DeviceAside(d.ID) && !slices.Contains(n.Settings.Caps.KeptDevices, d.ID) {
			aside++
		}
	}
	if have >= want && have-aside < want {
		fails(
			wire.AskDevices, "look at what they failed, then: vexillum nodes release "+n.Name,
			"%s of it are set aside, and a lease takes %d", english.Plural(aside, "graphics device", ""), want,
		)
	} else if have < want {
		fails(
			wire.AskDevices, "choose nodes with --needs gpu", "it offers %s, and a lease takes %d",
			english.Plural(max(0, have), "graphics device", ""), want,
		)
	} else {
		passes(wire.AskDevices, "%d of %d", want, have)
	}
}

func sizeOr(n int64) string {
	if n == 0 {
		return "not known"
	}
	return humanize.IBytes(uint64(n))
}
