package api

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
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

	"github.com/gin-gonic/gin"

	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
	"vexillum/internal/picture"
	"vexillum/internal/secret"
	"vexillum/internal/service"
	"vexillum/internal/service/floor"
	"vexillum/internal/service/queue"
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

// frameOfRun reads the numbers of a run and a frame from the path, or answers that they are none.
func frameOfRun(c *gin.Context) (run int64, frame int, ok bool) {
	if run, ok = number(c, "run"); ok {
		frame, ok = frameNumber(c)
	}
	return run, frame, ok
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
	v, err := f.Views.Farm(c, s.sight(c))
	s.answer(c, v, err)
}

func (s *Server) runs(c *gin.Context, f *floor.Floor) {
	if name, asked := c.GetQuery("name"); asked {
		v, err := f.Views.RunsNamed(c, name, s.sight(c))
		s.answer(c, v, err)
		return
	}
	v, err := f.Views.Runs(c, s.sight(c))
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
	run, err := f.Views.OneRun(c, farm.RunID(id), s.sight(c))
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
	why, err := f.Views.Why(c, farm.RunID(id), c.Query("node"), frame, s.sight(c))
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
	key, digest := keyOf(c, in)
	if in.Preflight > 0 {
		done, _, err := s.svc.SubmitPassing(c, in, in.Preflight, person(c), key, digest)
		s.submitted(c, in, done, err)
		return
	}
	done, err := s.svc.SubmitOne(c, in, person(c), key, digest)
	s.submitted(c, in, done, err)
}

// submitted answers with the receipt of a submit.
func (s *Server) submitted(c *gin.Context, in wire.Submit, done service.Submitted, err error) {
	if err != nil {
		s.fail(c, err)
		return
	}
	receipt := service.Receipt(done)
	receipt.DryRun = in.DryRun && !done.Again
	status := http.StatusCreated
	if done.Again || in.DryRun {
		status = http.StatusOK
	}
	c.JSON(status, receipt)
}

// keyOf returns the key under which something is asked for, as its asker gives it, and the
// digest of what that is; empty: none is given.
func keyOf(c *gin.Context, asked any) (key, digest string) {
	if key = c.GetHeader("Idempotency-Key"); key == "" {
		return "", ""
	}
	text, err := json.Marshal(asked)
	if err != nil {
		panic(err) // it was JSON a moment ago
	}
	return key, secret.Hash(string(text))
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
		if what == queue.Release {
			v, err := s.svc.Release(c, farm.RunID(id), how, person(c))
			s.answer(c, v, err)
			return
		}
		v, err := f.Queue.Steer(c, farm.RunID(id), what, how, person(c))
		s.answer(c, v, err)
	}
}

func (s *Server) redo(c *gin.Context, _ *floor.Floor, in wire.Redo) {
	id, ok := number(c, "run")
	if !ok {
		return
	}
	v, err := s.svc.Redo(c, farm.RunID(id), in, person(c))
	s.answer(c, v, err)
}

func (s *Server) mended(c *gin.Context, _ *floor.Floor, in wire.Mending) {
	id, ok := number(c, "run")
	if !ok {
		return
	}
	v, err := s.svc.Mended(c, farm.RunID(id), in, person(c))
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
	out := make([]wire.HistoryLine, len(events))
	reasons := make([]*string, len(events))
	for i, e := range events {
		out[i] = wire.HistoryLine{
			Seq: e.Seq, At: e.At, Kind: e.Kind, Node: names[e.Node], Reason: e.Reason, Moved: e.Moved,
		}
		reasons[i] = &out[i].Reason
	}
	s.answer(c, out, s.veil(c, reasons...))
}

func (s *Server) thumbnail(c *gin.Context) {
	run, frame, ok := frameOfRun(c)
	if !ok {
		return
	}
	jpeg, err := s.svc.Store().Thumbnail(c, run, frame)
	if err != nil {
		s.fail(c, err)
		return
	}
	c.Header("Content-Type", "image/jpeg")
	sum := sha256.Sum256(jpeg)
	if !seenBefore(c, hex.EncodeToString(sum[:16])) {
		http.ServeContent(c.Writer, c.Request, "", time.Time{}, bytes.NewReader(jpeg))
	}
}

// seenBefore gives a picture an ETag and answers 304 if the client has it already, before anything is
// decoded. Browsers must ask each time, so that nobody sees a picture after signing out.
func seenBefore(c *gin.Context, tag string) bool {
	c.Header("Cache-Control", "private, no-cache")
	c.Header("ETag", `"`+tag+`"`)
	for one := range strings.SplitSeq(c.GetHeader("If-None-Match"), ",") {
		if one = strings.TrimPrefix(strings.TrimSpace(one), "W/"); one == `"`+tag+`"` || one == "*" {
			c.Status(http.StatusNotModified)
			c.Writer.WriteHeaderNow()
			return true
		}
	}
	return false
}

// tagOf names the contents of a file. Files are replaced as a whole, so time and size tell them apart.
func tagOf(file *os.File) (string, error) {
	info, err := file.Stat()
	if err != nil {
		return "", fmt.Errorf("looking at a picture: %w", err)
	}
	return fmt.Sprintf("%x-%x", info.ModTime().UnixNano(), info.Size()), nil
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
	var done, suspect frames.Set // what is suspect is done, too
	if errors.Join(done.UnmarshalText([]byte(run.Sets.Done)), suspect.UnmarshalText([]byte(run.Sets.Suspect))) != nil ||
		!done.Union(suspect).Has(frame) {
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
	tag, err := tagOf(file)
	if err != nil {
		s.fail(c, err)
		return
	}
	if seenBefore(c, tag) {
		return
	}
	if movie := spec.Movie(); movie != "" && pass == "" {
		c.Header("Content-Type", movie)
		http.ServeContent(c.Writer, c.Request, "", time.Time{}, file)
		return
	}
	if c.Query("as") == "shown" && !picture.Viewable(format) {
		s.shown(c, file, format)
		return
	}
	c.Header(
		"Content-Type",
		map[string]string{"png": "image/png", "jpeg": "image/jpeg", "tiff": "image/tiff", "exr": "image/x-exr"}[format],
	)
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
