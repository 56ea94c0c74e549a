package service

import (
	"fmt"
	"strings"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/span"
	"vexillum/internal/service/queue"
	"vexillum/internal/wire"

	"github.com/dustin/go-humanize"
	"github.com/dustin/go-humanize/english"
)

// worthSaying is from how many seconds of fetching on a submitter is told of it.
const worthSaying = 5

// lackText says what nodes have to get of a bundle before they can begin.
func lackText(l queue.Lack) string {
	return fmt.Sprintf(
		"%s to get up to %s of the bundle first, which may take %s; those that would end after the rest get no frames.",
		english.Plural(l.Nodes, "node has", "nodes have"), humanize.IBytes(uint64(l.Bytes)),
		span.Text(span.Of(l.Seconds)),
	)
}

// Receipt tells a submitter what became of a submission.
func Receipt(done Submitted) wire.Receipt {
	run := done.Run
	out := wire.Receipt{
		Run: run.ID, Name: run.Name, Frames: run.Frames, FrameCount: run.FrameCount, Output: done.Output,
		State: run.State, Forecast: run.Forecast, Shot: run.Shot, Remarks: []string{},
	}
	if run.ShotWhy != "" {
		out.Remarks = append(out.Remarks, run.ShotWhy)
	}
	if t := run.Tiles; t != nil { // its tiles are dealt as frames
		out.Frames, out.FrameCount, out.Tiles = fmt.Sprint(t.Frame), 1, len(t.Rects)
	}
	if done.Taken != "" {
		out.Remarks = append(out.Remarks, done.Taken)
	}
	switch n := len(done.Passed); n {
	case 0:
	case 1:
		out.Remarks = append(
			out.Remarks,
			fmt.Sprintf("The folder %s holds files already, so the run has another number.", done.Passed[0]),
		)
	default:
		out.Remarks = append(
			out.Remarks,
			fmt.Sprintf(
				"The folders %s to %s hold files already, so the run has another number.", done.Passed[0],
				done.Passed[n-1],
			),
		)
	}
	if p := run.Preset; p != nil {
		text := fmt.Sprintf("From the preset %s, version %d", p.Name, p.Version)
		if len(p.Changed) > 0 {
			text += "; changed here: " + english.WordSeries(p.Changed, "and")
		}
		out.Remarks = append(out.Remarks, text+".")
	}
	out.Remarks = append(out.Remarks, done.Remarks...)
	out.Nodes = done.Able
	if l := done.Lack; l.Nodes > 0 && l.Seconds >= worthSaying {
		out.Remarks = append(out.Remarks, lackText(l))
	}
	if done.Nobody != "" {
		out.Remarks = append(out.Remarks, "No node can take it as it is: "+done.Nobody+".")
	}
	switch {
	case run.State == string(farm.RunWaiting) && strings.HasPrefix(run.Why, "waits "):
		out.Sentence = "It " + run.Why + "."
	case run.State == string(farm.RunWaiting): // of a dry run: what it waits for is not there yet
		out.Sentence = "It waits for what is submitted with it."
	case run.State == string(farm.RunHeld):
		out.Sentence = "It is held until somebody releases it."
	case done.Nobody != "":
		out.Sentence = "It needs a hand before it starts."
	case out.Nodes == 0:
		out.Sentence = "It waits: " + run.Why + "."
	default:
		out.Sentence = startsSoon(out.Nodes)
	}
	return out
}

func startsSoon(nodes int) string {
	who := fmt.Sprintf("%d nodes that are online may", nodes)
	if nodes == 1 {
		who = "1 node that is online may"
	}
	return "It starts as soon as a node that may take it is free; " + who + "."
}
