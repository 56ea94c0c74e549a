package node

import (
	"errors"
	"fmt"
	"image"
	"maps"
	"os"
	"path"
	"path/filepath"
	"slices"
	"time"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
	"vexillum/internal/core/protocol/journal"
	"vexillum/internal/core/triage"
	"vexillum/internal/picture"
	"vexillum/internal/publish"
	"vexillum/internal/recipe"
	"vexillum/internal/wire"
)

// finish verifies a frame, offers it, and delivers it if it is accepted. What
// the service has not answered for stays for the next node process.
func (w *work) finish(c check) {
	if w.stops.ctx.Err() != nil || w.stops.err() != nil {
		return
	}
	w.status.set(func(n *moment) { n.verifying[c.frame] = nil })
	defer w.status.set(func(n *moment) { delete(n.verifying, c.frame) })
	if w.offer(c) && w.stops.err() == nil && w.stops.ctx.Err() == nil {
		w.diary.note(journal.Entry{Do: journal.Settled, Launch: c.launch, Frame: c.frame})
		if w.trial {
			return
		}
		w.drop(c)
	}
}

// drop removes the files of a frame that is settled. The renderer may have put links on the
// way to them, which are not followed out of its folder.
func (w *work) drop(c check) {
	root, err := os.OpenRoot(c.folder)
	if err != nil {
		return // the lease's folder goes as a whole anyway
	}
	defer root.Close()
	for _, file := range append(slices.Collect(maps.Values(w.passFiles(c))), c.path) {
		if name, err := filepath.Rel(c.folder, file); err == nil {
			_ = root.Remove(name)
		}
	}
}

// verified is a frame that is whole, with all its passes.
type verified struct {
	blank   bool   // all of it has the same colour
	folder  string // of the launch, in which all sources are
	image   image.Image
	layers  []picture.Layer // of the picture itself
	sources []string
	files   []farm.File // in the order of sources
}

func (v *verified) hash() string { return farm.FrameHash(v.files) }

// report lists the files of a frame that has several.
func listed(files []farm.File) []wire.File {
	if len(files) < 2 {
		return nil
	}
	var out []wire.File
	for _, f := range files {
		out = append(out, wire.File(f))
	}
	return out
}

func bytesOf(files []farm.File) (all int64) {
	for _, f := range files {
		all += f.Bytes
	}
	return all
}

// passFiles returns the files that stand beside the frame's picture, by name.
func (w *work) passFiles(c check) map[string]string {
	out := map[string]string{}
	for _, p := range w.lease.Passes {
		beside := w.lease.Recipe.Beside(p.Name)
		if file, ok := w.fileOf(c.folder, beside.File, beside.Name, c.frame, c.offset, false); ok {
			out[p.Name] = file
		}
	}
	return out
}

// verify looks at all files of a frame. A *picture.FaultError says what is
// wrong with one.
func (w *work) verify(c check) (*verified, error) {
	if w.host.looking != nil { // pictures take memory, and a node may have many leases
		w.host.looking <- struct{}{}
		defer func() { <-w.host.looking }()
	}
	r := &w.lease.Recipe
	good, err := w.look(c, c.path, recipe.Output{Picture: r.Picture, Check: r.Check})
	if err != nil {
		return nil, err
	}
	v := &verified{
		folder: c.folder, image: good.Image, layers: good.Layers, sources: []string{c.path},
		blank: good.Blank && w.lease.Tiles == nil, // of a still, a part may well be
		files: []farm.File{{Hash: good.Hash, Bytes: good.Bytes}},
	}
	beside := w.passFiles(c)
	for _, p := range w.lease.Passes {
		file, of := beside[p.Name], r.Beside(p.Name)
		if file == "" && of.Optional {
			continue
		}
		if file == "" {
			return nil, &picture.FaultError{
				Missing: true, Reason: fmt.Sprintf("the renderer left the picture without its pass %s", p.Name),
			}
		}
		good, err := w.look(c, file, of)
		var fault *picture.FaultError
		if errors.As(err, &fault) {
			return nil, &picture.FaultError{Missing: fault.Missing, Reason: "pass " + p.Name + ": " + fault.Reason}
		}
		if err != nil {
			return nil, fmt.Errorf("pass %s: %w", p.Name, err)
		}
		v.sources = append(v.sources, file)
		v.files = append(v.files, farm.File{Pass: p.Name, Hash: good.Hash, Bytes: good.Bytes})
	}
	return v, nil
}

// look verifies one file of a frame, and asks the recipe's own check.
func (w *work) look(c check, file string, of recipe.Output) (*picture.Verified, error) {
	if err := w.cropped(c.folder, file, c.frame, of); err != nil {
		return nil, err
	}
	r := w.tileOf(c.frame)
	width, height := of.Size.Of(r.Dx(), r.Dy())
	now := &looking{since: time.Now(), size: sizeOf(file)}
	w.status.set(func(n *moment) { n.verifying[c.frame] = now })
	good, err := picture.VerifyBelow(c.folder, file, of.Picture, width, height, &now.seen)
	if err != nil || len(of.Check) == 0 {
		return good, err
	}
	w.status.set(func(n *moment) { n.verifying[c.frame] = &looking{since: time.Now()} })
	placeholders := map[string]string{
		"file": file, "frame": fmt.Sprint(c.frame), "width": fmt.Sprint(width), "height": fmt.Sprint(height),
	}
	return good, w.host.commands.ownCheck(
		w.stops.ctx, of.Check, c.folder, w.lease.LaunchSettings, w.number(), placeholders,
	)
}

// target returns where a frame belongs.
func (w *work) target(frame int, v *verified, verdict wire.Verdict) publish.Target {
	number := frames.Name(frame, w.lease.Digits)
	to := publish.Target{
		Root: w.lease.OutputRoot, Folder: w.lease.Output, Lease: w.lease.ID, Mark: w.lease.OutputMark,
		Replace: verdict.Replace, Adopt: verdict.Adopt, Owner: w.owner(), Below: v.folder,
	}
	add := func(pass, name string) {
		to.Names = append(to.Names, publish.File{File: farm.File{Pass: pass}, Name: name})
		for _, f := range v.files {
			if f.Pass == pass {
				to.Files = append(to.Files, publish.File{File: f, Name: name})
			}
		}
	}
	add("", w.lease.FilePrefix+number+w.lease.FileEnding)
	for _, p := range w.lease.Passes {
		folder := p.Name
		if p.Folder != nil {
			folder = *p.Folder
		}
		add(p.Name, path.Join(folder, p.FilePrefix+number+p.FileEnding))
	}
	return to
}

// deadly sets a picture aside that has ended the node process twice, and reports
// true if it did. Of any other it notes that it is looked at from now on.
func (w *work) deadly(c check) bool {
	shot := journal.Shot{Launch: c.launch, Frame: c.frame}
	if !ask(w.diary, func(l *journal.Lease) bool { return l.Deadly(shot) }) {
		w.diary.note(journal.Entry{Do: journal.Looked, Launch: c.launch, Frame: c.frame})
		return false
	}
	aside := filepath.Join(filepath.Dir(w.staging), "aside")
	to := filepath.Join(aside, fmt.Sprintf("lease-%d-%s", w.lease.ID, filepath.Base(c.path)))
	err := os.MkdirAll(aside, 0o700)
	if err == nil {
		err = os.Rename(c.path, to)
	}
	if err != nil {
		w.log.Warn("setting a picture aside", "path", c.path, "error", err)
		to = c.path
	}
	w.failed(
		c.launch, c.frame, triage.CauseWrongOutput,
		fmt.Sprintf(
			"looking at this picture has ended the node process twice; it is set aside on %s as %s", w.host.node, to,
		),
	)
	return true
}

// offer reports true when nothing is left to do about the frame.
func (w *work) offer(c check) (settled bool) {
	begin := time.Now()
	shot := journal.Shot{Launch: c.launch, Frame: c.frame}
	accepted := ask(w.diary, func(l *journal.Lease) string { return l.WasAccepted(shot) })
	if w.deadly(c) {
		return true
	}
	good, err := w.verify(c)
	w.diary.note(journal.Entry{Do: journal.Seen, Launch: c.launch, Frame: c.frame})
	if err != nil && accepted != "" { // it was good once, and the service waits for it
		w.report(
			wire.ReportItem{
				Outcome: wire.OutcomeFailed, Lease: w.lease.ID, Launch: c.launch, Frame: c.frame,
				Hash: accepted, Cause: triage.CauseDelivery,
				Message: "the accepted frame was lost in the staging area: " + err.Error(),
			},
		)
		return true
	}
	if err != nil {
		cause := triage.CauseWrongOutput
		var fault *picture.FaultError
		if errors.As(err, &fault) && fault.Missing {
			cause = triage.CauseNoFrame
		}
		w.failed(c.launch, c.frame, cause, err.Error())
		return true
	}
	if w.host.verified != nil {
		w.host.verified(c.frame, good)
	}
	item := wire.ReportItem{
		Outcome: wire.OutcomeGood, Lease: w.lease.ID, Launch: c.launch, Frame: c.frame,
		Hash: good.hash(), Bytes: bytesOf(good.files), Files: listed(good.files),
		StartupSeconds: c.startup.Seconds(), FetchedBytes: c.fetched.Bytes, FetchedSeconds: c.fetched.Seconds,
		RenderSeconds: c.render.Seconds(),
		CheckSeconds:  time.Since(begin).Seconds(), MemoryBytes: c.memory, Warning: c.warning,
	}
	if good.blank && item.Warning == "" {
		item.Warning = "the picture is empty: all of it has the same colour"
	}
	verdict := w.report(item)
	if verdict.Verdict != wire.VerdictDeliver {
		w.log.Info("frame not wanted", "run", w.lease.RunName, "frame", c.frame, "why", verdict.Why)
		return true
	}
	w.diary.note(journal.Entry{Do: journal.Accepted, Frame: c.frame, Launch: c.launch, Hash: item.Hash})
	if good.image != nil {
		if small, err := picture.Thumbnail(good.image); err == nil {
			w.svc.thumbnail(w.stops.ctx, w.lease.Run, c.frame, small)
		}
	}
	return w.settle(item, good.sources, w.target(c.frame, good, verdict))
}

// sendAfter is how often the service may not see a frame that was delivered
// until it is sent to it instead.
const sendAfter = 2

// settle delivers an accepted frame until the service sees it in its place. It
// reports true when nothing is left to do about the frame.
func (w *work) settle(item wire.ReportItem, sources []string, to publish.Target) (settled bool) {
	defer w.status.set(func(n *moment) { n.trouble = "" })
	wait := deliverSoon
	for unseen := 0; ; unseen++ {
		at, err := w.deliver(sources, to, item.Frame, unseen >= sendAfter)
		if w.stops.ctx.Err() != nil {
			return false
		}
		if err != nil {
			item.Outcome, item.Cause, item.Message = wire.OutcomeFailed, deliveryCause(err), err.Error()
			w.log.Warn("frame not delivered", "run", w.lease.RunName, "frame", item.Frame, "error", err)
			w.report(item)
			return true
		}
		told := item
		told.Outcome, told.Hash, told.Bytes, told.Files = wire.OutcomeDelivered, at.Hash, at.Bytes, listed(at.Files)
		verdict := w.report(told)
		if verdict.Verdict != wire.VerdictDeliver {
			return true
		}
		w.status.set(func(n *moment) { n.trouble = verdict.Why })
		w.log.Warn("a delivered frame is not seen", "run", w.lease.RunName, "frame", item.Frame, "why", verdict.Why)
		select {
		case <-w.stops.stopped: // the run has ended: nobody waits for it
			return true
		case <-w.stops.ctx.Done():
			return false
		case <-time.After(wait):
		}
		wait = min(2*wait, deliverLate)
	}
}
