package api

import (
	"encoding/json"
	"errors"
	"fmt"
	"image/png"
	"io/fs"
	"math"
	"net/http"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/dustin/go-humanize"
	"github.com/dustin/go-humanize/english"
	"github.com/gin-gonic/gin"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
	"vexillum/internal/core/span"
	"vexillum/internal/picture"
	"vexillum/internal/secret"
	"vexillum/internal/service"
	"vexillum/internal/service/floor"
	"vexillum/internal/service/queue"
	"vexillum/internal/service/refusal"
	"vexillum/internal/store"
	"vexillum/internal/wire"
)

// number reads a number from the path, or answers that it is none.
func number(c *gin.Context, name string) (int64, bool) {
	n, err := strconv.ParseInt(c.Param(name), 10, 64)
	if err != nil {
		problem(c, http.StatusNotFound, name, fmt.Sprintf("%q is not the number of a %s", c.Param(name), name))
		return 0, false
	}
	return n, true
}

// frameNumber reads the number of a frame from the path, or answers that it is
// none.
func frameNumber(c *gin.Context) (int, bool) {
	n, ok := number(c, "frame")
	if ok && (n < frames.Least || n > frames.Most) {
		problem(c, http.StatusNotFound, "frame", fmt.Sprintf("%d is not a frame", n))
		return 0, false
	}
	return int(n), ok
}

// query reads an optional number from the query.
func query(c *gin.Context, name string, otherwise, least, most int64) (int64, bool) {
	text := c.Query(name)
	if text == "" {
		return otherwise, true
	}
	n, err := strconv.ParseInt(text, 10, 64)
	if err != nil || n < least || n > most {
		problem(
			c, http.StatusUnprocessableEntity, name,
			fmt.Sprintf("%s must be a number from %d to %d", name, least, most),
		)
		return 0, false
	}
	return n, true
}

func (s *Server) farm(c *gin.Context, f *floor.Floor) {
	v, err := f.Views.Farm(c)
	s.answer(c, v, err)
}

func (s *Server) runs(c *gin.Context, f *floor.Floor) {
	if name, asked := c.GetQuery("name"); asked {
		v, err := f.Views.RunsNamed(c, name)
		s.answer(c, v, err)
		return
	}
	v, err := f.Views.Runs(c)
	s.answer(c, v, err)
}

// oneRun returns the run that the path names, or answers that there is none.
func (s *Server) oneRun(c *gin.Context) (wire.Run, bool) {
	id, ok := number(c, "run")
	if !ok {
		return wire.Run{}, false
	}
	f, ok := s.floor(c)
	if !ok {
		return wire.Run{}, false
	}
	run, err := f.Views.OneRun(c, farm.RunID(id))
	if err != nil {
		s.fail(c, err)
		return wire.Run{}, false
	}
	return run, true
}

func (s *Server) run(c *gin.Context) {
	if run, ok := s.oneRun(c); ok {
		c.JSON(http.StatusOK, run)
	}
}

func (s *Server) why(c *gin.Context) {
	id, ok := number(c, "run")
	if !ok {
		return
	}
	var frame *int
	if text := c.Query("frame"); text != "" {
		n, err := strconv.Atoi(text)
		if err != nil {
			problem(c, http.StatusBadRequest, "frame", fmt.Sprintf("%q is not a frame number", text))
			return
		}
		frame = &n
	}
	f, ok := s.floor(c)
	if !ok {
		return
	}
	why, err := f.Views.Why(c, farm.RunID(id), c.Query("node"), frame)
	if err != nil {
		s.fail(c, err)
		return
	}
	c.JSON(http.StatusOK, why)
}

func (s *Server) changeRun(c *gin.Context, f *floor.Floor, in wire.RunChange) {
	id, ok := number(c, "run")
	if !ok {
		return
	}
	v, err := f.Queue.ChangeRun(c, farm.RunID(id), in, person(c))
	if err == nil && in.DryRun && v.Changes {
		err = s.svc.Foresee(c, f, farm.RunID(id), in, person(c), &v)
	}
	s.answer(c, v, err)
}

func (s *Server) submit(c *gin.Context, _ *floor.Floor, in wire.Submit) {
	sub, err := submissionOf(in, person(c))
	if err != nil {
		s.fail(c, err)
		return
	}
	if key := c.GetHeader("Idempotency-Key"); key != "" {
		asked, err := json.Marshal(in)
		if err != nil {
			s.fail(c, err)
			return
		}
		sub.Key, sub.Digest = sub.Actor+" "+key, secret.Hash(string(asked))
	}
	done, err := s.svc.Submit(c, sub)
	if err != nil {
		s.fail(c, err)
		return
	}
	receipt := receiptOf(done)
	receipt.DryRun = in.DryRun && !done.Again
	status := http.StatusCreated
	if done.Again || in.DryRun {
		status = http.StatusOK
	}
	c.JSON(status, receipt)
}

// submissionOf reads what somebody submits. The error is a *[refusal.Refusal].
func submissionOf(in wire.Submit, by farm.Person) (queue.Submission, error) {
	none := queue.Submission{}
	set, err := frames.Parse(in.Frames)
	if err != nil {
		return none, refusal.New(refusal.Invalid, "frames", "%v", err)
	}
	var shot *frames.Span
	if in.Shot != "" {
		span, err := frames.ParseSpan(in.Shot)
		if err != nil {
			return none, refusal.New(refusal.Invalid, "shot", "%v", err)
		}
		shot = &span
	}
	level, err := farm.ParseLevel(in.Priority)
	if err != nil {
		return none, refusal.New(refusal.Invalid, "priority", "%v", err)
	}
	if level == farm.Urgent && !by.Role.Allows(farm.Wrangler) {
		return none, refusal.New(
			refusal.Forbidden, "priority",
			"only a wrangler can submit urgent work, as it comes before everybody else's; use high, or ask a wrangler",
		)
	}
	ceiling, err := farm.ParseCeiling(in.Ceiling)
	if err != nil {
		return none, refusal.New(refusal.Invalid, "ceiling", "%v", err)
	}
	due, err := queue.ParseDue(in.Due)
	if err != nil {
		return none, err
	}
	sequence, err := farm.ParseSequence(in.Sequence)
	if err != nil {
		return none, refusal.New(refusal.Invalid, "sequence", "%v", err)
	}
	sub := queue.Submission{
		Held: in.Held, Dry: in.DryRun, Shot: shot, Actor: by.Name, Role: by.Role,
		AtOnce: in.StartOn != nil && *in.StartOn == 0,
		Spec: farm.Spec{
			Bundle: in.Bundle, With: in.With, Job: in.Job, Project: in.Project, Kind: farm.RunKind(in.Kind),
			Recipe: in.Recipe,
			Scene:  in.Scene, Output: in.Output, Width: in.Width, Height: in.Height, Values: in.Values,
			Tries: in.Tries, Chunk: in.Chunk, Frames: set, Needs: in.Needs,
			Terms: farm.Terms{Level: level, Ceiling: ceiling, Due: due}, Sequence: sequence,
			Wait: in.Wait, Stall: in.Stall,
		},
	}
	wire.Set(&sub.Spec.StartOn, in.StartOn)
	if in.Takes != nil {
		sub.Spec.Takes = farm.Amounts(*in.Takes)
	}
	for _, a := range in.After {
		sub.After = append(sub.After, queue.Wait{Of: -1, Name: a.Run, Frames: a.Frames})
	}
	for _, name := range in.Passes {
		sub.Spec.Passes = append(sub.Spec.Passes, farm.Pass{Name: name})
	}
	return sub, nil
}

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

// receiptOf tells a submitter what became of it.
func receiptOf(done service.Submitted) wire.Receipt {
	run := done.Run
	out := wire.Receipt{
		Run: run.ID, Name: run.Name, Frames: run.Frames, FrameCount: run.FrameCount, Output: done.Output,
		State: run.State, Forecast: run.Forecast, Shot: run.Shot, Remarks: []string{run.ShotWhy},
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
	out.Remarks = append(out.Remarks, done.Remarks...)
	out.Nodes = done.Able
	if l := done.Lack; l.Nodes > 0 && l.Seconds >= worthSaying {
		out.Remarks = append(out.Remarks, lackText(l))
	}
	if done.Nobody != "" {
		out.Remarks = append(out.Remarks, "No node can take it as it is: "+done.Nobody+".")
	}
	switch {
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

// steer returns the handler of one way to steer a run.
func steer(what queue.Steering) func(*Server, *gin.Context) {
	return func(s *Server, c *gin.Context) {
		id, ok := number(c, "run")
		if !ok {
			return
		}
		f, ok := s.floor(c)
		if !ok {
			return
		}
		how := queue.How{Now: c.Query("now") == "true", Reason: strings.TrimSpace(c.Query("reason"))}
		if len(how.Reason) > maxLabel || hasControls(how.Reason) {
			problem(
				c, http.StatusUnprocessableEntity, "reason",
				fmt.Sprintf("a reason has at most %d characters, none of them a control character", maxLabel),
			)
			return
		}
		v, err := f.Queue.Steer(c, farm.RunID(id), what, how, person(c))
		s.answer(c, v, err)
	}
}

func (s *Server) redo(c *gin.Context, f *floor.Floor, in wire.Redo) {
	id, ok := number(c, "run")
	if !ok {
		return
	}
	set, err := frames.Parse(in.Frames)
	if err != nil {
		problem(c, http.StatusUnprocessableEntity, "frames", err.Error())
		return
	}
	v, err := f.Queue.Redo(c, farm.RunID(id), set, person(c))
	s.answer(c, v, err)
}

func (s *Server) results(c *gin.Context) {
	run, after, names, ok := s.runAfter(c)
	if !ok {
		return
	}
	rows, err := s.svc.Store().Results(c, run.ID, after)
	if err != nil {
		s.fail(c, err)
		return
	}
	spec, ok := s.spec(c, run)
	if !ok {
		return
	}
	out := make([]wire.Result, 0, len(rows))
	for _, r := range rows {
		at := r.AcceptedAt
		if r.DoneAt != nil {
			at = *r.DoneAt
		}
		out = append(out, wire.Result{
			Frame: r.Frame, State: r.State, File: spec.FrameFile(r.Frame),
			Files: outputs(spec, r), Node: names[r.Node], Lease: r.Lease,
			Launch: r.Launch, Hash: r.Hash, Bytes: r.Bytes, FetchedBytes: r.FetchedBytes,
			FetchedSeconds: r.FetchedSeconds, StartupSeconds: r.StartupSeconds,
			RenderSeconds: r.RenderSeconds, CheckSeconds: r.CheckSeconds, At: at, Seq: r.Seq,
		})
	}
	c.JSON(http.StatusOK, out)
}

// runAfter reads which run is asked about and from which change on, and the names
// of all nodes.
func (s *Server) runAfter(c *gin.Context) (run wire.Run, after int64, names map[int64]string, ok bool) {
	if run, ok = s.oneRun(c); !ok {
		return run, after, names, false
	}
	if after, ok = query(c, "after", 0, 0, 1<<62); !ok {
		return run, after, names, false
	}
	names, ok = s.nodeNames(c)
	return run, after, names, ok
}

// timings reports who rendered each frame of a run and how long that took: all of
// them, or those that came after a change.
func (s *Server) timings(c *gin.Context) {
	run, after, names, ok := s.runAfter(c)
	if !ok {
		return
	}
	rows, err := s.svc.Store().Timings(c, run.ID, after)
	if err != nil {
		s.fail(c, err)
		return
	}
	out := wire.Timings{Seq: after, Nodes: []string{}, Frames: []int{}, Node: []int{}, Seconds: []float64{}}
	place := map[int64]int{}
	for _, r := range rows {
		at, known := place[r.Node]
		if !known {
			at = len(out.Nodes)
			place[r.Node], out.Nodes = at, append(out.Nodes, names[r.Node])
		}
		out.Seq = max(out.Seq, r.Seq)
		out.Frames, out.Node, out.Seconds = append(out.Frames, r.Frame), append(out.Node, at), append(
			out.Seconds, math.Round(1000*r.RenderSeconds)/1000,
		)
	}
	c.JSON(http.StatusOK, out)
}

// outputs returns the files of a frame.
func outputs(spec farm.Spec, r store.Result) []wire.Output {
	if len(r.Files) == 0 {
		return []wire.Output{{File: spec.FrameFile(r.Frame), Hash: r.Hash, Bytes: r.Bytes}}
	}
	var out []wire.Output
	for _, f := range r.Files {
		out = append(out, wire.Output{Pass: f.Pass, File: spec.PassFile(f.Pass, r.Frame), Hash: f.Hash, Bytes: f.Bytes})
	}
	return out
}

// spec returns what a run was submitted with.
func (s *Server) spec(c *gin.Context, run wire.Run) (farm.Spec, bool) {
	f, ok := s.floor(c)
	if !ok {
		return farm.Spec{}, false
	}
	spec, err := f.Queue.Spec(c, farm.RunID(run.ID))
	if err != nil {
		s.fail(c, err)
		return spec, false
	}
	return spec, true
}

func (s *Server) nodeNames(c *gin.Context) (map[int64]string, bool) {
	f, ok := s.floor(c)
	if !ok {
		return nil, false
	}
	names, err := f.Views.NodeNames(c)
	if err != nil {
		s.fail(c, err)
		return nil, false
	}
	return names, true
}

func (s *Server) runHistory(c *gin.Context) {
	run, ok := s.oneRun(c)
	if !ok {
		return
	}
	before, ok := query(c, "before", 0, 0, 1<<62)
	if !ok {
		return
	}
	after, ok := query(c, "after", 0, 0, 1<<62)
	if !ok {
		return
	}
	limit, ok := query(c, "limit", 100, 1, 1000)
	if !ok {
		return
	}
	names, ok := s.nodeNames(c)
	if !ok {
		return
	}
	events, err := s.svc.Store().RunLog(c, run.ID, after, before, int(limit))
	if err != nil {
		s.fail(c, err)
		return
	}
	out := make([]wire.HistoryLine, 0, len(events))
	for _, e := range events {
		out = append(
			out,
			wire.HistoryLine{Seq: e.Seq, At: e.At, Kind: e.Kind, Node: names[e.Node], Reason: e.Reason, Moved: e.Moved},
		)
	}
	c.JSON(http.StatusOK, out)
}

func (s *Server) contactSheet(c *gin.Context) {
	run, ok := s.oneRun(c)
	if !ok {
		return
	}
	sheet := picture.NewSheet(
		run.Name,
		fmt.Sprintf(
			"%d of %d frames · %dx%d · %s", run.DoneCount, run.FrameCount, run.Width, run.Height,
			time.Now().Format("Mon 2 Jan 15:04"),
		),
	)
	if err := s.svc.Store().Thumbnails(c, run.ID, picture.MostOnSheet, sheet.Add); err != nil {
		s.fail(c, err)
		return
	}
	c.Header("Content-Type", "image/png")
	c.Header("Cache-Control", "no-store")
	if err := sheet.WritePNG(c.Writer); err != nil {
		s.log.Error("contact sheet", "run", run.ID, "error", err)
	}
}

func (s *Server) thumbnail(c *gin.Context) {
	run, ok := number(c, "run")
	if !ok {
		return
	}
	frame, ok := frameNumber(c)
	if !ok {
		return
	}
	jpeg, err := s.svc.Store().Thumbnail(c, run, frame)
	if err != nil {
		s.fail(c, err)
		return
	}
	c.Header("Cache-Control", "no-store") // nobody sees it who has signed out
	c.Data(http.StatusOK, "image/jpeg", jpeg)
}

// picture serves the frame itself where the service can see it.
func (s *Server) picture(c *gin.Context) {
	run, ok := s.oneRun(c)
	if !ok {
		return
	}
	frame, ok := frameNumber(c)
	if !ok {
		return
	}
	var done frames.Set
	if done.UnmarshalText([]byte(run.Sets.Done)) != nil || !done.Has(frame) {
		problem(c, http.StatusNotFound, "frame", fmt.Sprintf("frame %d of %s is not done", frame, run.Name))
		return
	}
	spec, ok := s.spec(c, run)
	if !ok {
		return
	}
	pass, format := c.Query("pass"), spec.Picture
	if pass != "" {
		i := slices.Index(spec.PassNames(), pass)
		if i < 0 {
			problem(c, http.StatusNotFound, "pass", fmt.Sprintf("%s has no pass %q", run.Name, pass))
			return
		}
		format = spec.Passes[i].Picture
	}
	file, err := s.svc.OpenFrame(c, spec, pass, frame)
	if errors.Is(err, fs.ErrNotExist) {
		problem(c, http.StatusNotFound, "frame", "the service cannot see the file of this frame")
		return
	}
	if err != nil {
		s.fail(c, err)
		return
	}
	defer file.Close()
	c.Header("Cache-Control", "no-store")
	if c.Query("as") == "shown" && !picture.Viewable(format) {
		s.shown(c, file, format)
		return
	}
	c.Header("Content-Type", map[string]string{"png": "image/png", "jpeg": "image/jpeg", "tiff": "image/tiff", "exr": "image/x-exr"}[format])
	http.ServeContent(c.Writer, c.Request, "", time.Time{}, file)
}

// shown serves a picture that no browser shows as a PNG. Few are made at a time.
func (s *Server) shown(c *gin.Context, file *os.File, format string) {
	select {
	case s.showing <- struct{}{}:
		defer func() { <-s.showing }()
	case <-c.Request.Context().Done():
		return
	}
	img, err := picture.Shown(file, format)
	if err != nil {
		problem(c, http.StatusUnprocessableEntity, "frame", fmt.Sprintf("the picture cannot be shown: %v", err))
		return
	}
	c.Header("Content-Type", "image/png")
	encoder := png.Encoder{CompressionLevel: png.BestSpeed}
	if err := encoder.Encode(c.Writer, img); err != nil {
		s.log.Debug("sending a picture", "error", err)
	}
}

// mostShowing is how many pictures are made to be shown at a time.
const mostShowing = 2
