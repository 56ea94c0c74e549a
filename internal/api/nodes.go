package api

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"image/jpeg"
	"io"
	"net/http"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"vexillum/internal/core/capacity"
	"vexillum/internal/core/farm"
	"vexillum/internal/core/frames"
	"vexillum/internal/core/health"
	"vexillum/internal/core/protocol/accept"
	"vexillum/internal/picture"
	"vexillum/internal/recipe"
	"vexillum/internal/secret"
	"vexillum/internal/service/fleet"
	"vexillum/internal/service/floor"
	"vexillum/internal/service/views"
	"vexillum/internal/store"
	"vexillum/internal/wire"
)

func factsOf(in wire.Facts) farm.Facts {
	facts := farm.Facts{
		OS: in.OS, System: in.System, Arch: in.Arch, Cores: in.Cores, MemoryBytes: in.Memory,
		DiskBytes: in.Disk, Speed: in.Speed, Version: in.Version, Renderers: []farm.Renderer{},
		Devices: []farm.Device{},
	}
	facts.DiskRate, facts.NetworkRate = max(0, in.DiskRate), max(0, in.NetworkRate)
	if in.Means != nil {
		facts.Means = farm.Means(*in.Means)
	}
	for _, d := range in.Devices {
		facts.Devices = append(facts.Devices, farm.Device{ID: d.ID, Model: d.Model, MemoryBytes: d.Memory})
	}
	facts.Renderers = renderersOf(in.Renderers)
	return facts
}

func (s *Server) enrol(c *gin.Context, f *floor.Floor, in wire.Enrol) {
	if wrongFacts(c, in.Facts) {
		return
	}
	token := secret.New("vxn")
	id, err := f.Fleet.Enrol(c, fleet.Enrolment{
		KeyHash: secret.Hash(in.Key), TokenHash: secret.Hash(token), Name: in.Name,
		Kind: farm.NodeKind(in.Kind), Facts: factsOf(in.Facts),
	})
	if err != nil {
		s.fail(c, err)
		return
	}
	c.JSON(http.StatusCreated, wire.Enrolled{Node: int64(id), Name: in.Name, Token: token})
}

// nodeRecipe is a recipe as nodes get it.
type nodeRecipe struct {
	*recipe.Recipe
	wire.RecipeMarks
}

func (s *Server) nodeRecipes(c *gin.Context, f *floor.Floor) {
	items, err := f.Fleet.Recipes(c)
	out := []nodeRecipe{}
	for _, i := range items {
		out = append(out, nodeRecipe{i.Recipe, wire.RecipeMarks{Version: i.Version, Newest: i.Newest}})
	}
	s.answer(c, out, err)
}

func (s *Server) found(c *gin.Context, f *floor.Floor, in wire.Found) {
	if wrongFacts(c, wire.Facts{Renderers: in.Renderers, Speed: in.Speed}) {
		return
	}
	s.done(c, f.Fleet.Found(c, nodeID(c), in.Session, renderersOf(in.Renderers), in.Speed))
}

func renderersOf(in []wire.Renderer) []farm.Renderer {
	out := []farm.Renderer{}
	for _, r := range in {
		out = append(out, farm.Renderer{
			Recipe: r.Recipe, Version: r.Version, Path: r.Path, Unfit: short(r.Unfit), Failed: r.Failed,
			Printed: short(r.Printed),
		})
	}
	return out
}

func (s *Server) start(c *gin.Context, f *floor.Floor, in wire.Start) {
	if wrongFacts(c, in.Facts) {
		return
	}
	if len(in.Holding) > maxHolding {
		problem(c, http.StatusUnprocessableEntity, "holding", fmt.Sprintf("a node holds at most %d leases", maxHolding))
		return
	}
	var ours, foreign []farm.LeaseID
	life := s.svc.Life()
	for _, h := range in.Holding {
		if h.Life == life {
			ours = append(ours, farm.LeaseID(h.Lease))
		} else {
			foreign = append(foreign, farm.LeaseID(h.Lease))
		}
	}
	session, err := f.Fleet.Start(c, nodeID(c), factsOf(in.Facts), ours, foreign)
	if m := in.Mishap; err == nil && m != nil {
		err = f.Fleet.Killed(
			c, nodeID(c), health.Killed{At: m.At, Sure: m.Sure, Bytes: min(max(m.MemoryBytes, 0), maxBytes)},
			farm.LeaseID(m.Lease),
		)
	}
	out := wire.Started{
		Node: int64(nodeID(c)), Name: session.Name, Session: session.Number, Life: life,
		Keep: []wire.Kept{}, Caps: capsView(session.Set, session.Caps),
	}
	for lease, left := range session.Keep {
		out.Keep = append(out.Keep, wire.Kept{Lease: int64(lease), Frames: left.String()})
	}
	s.answer(c, out, err)
}

func (s *Server) trimmed(c *gin.Context, f *floor.Floor, in wire.Trimmed) {
	var given frames.Set
	if in.Frames != "" {
		var err error
		if given, err = frames.Parse(in.Frames); err != nil {
			problem(c, http.StatusUnprocessableEntity, "frames", err.Error())
			return
		}
	}
	if err := f.Fleet.Trimmed(c, nodeID(c), in.Session, in.ID, farm.LeaseID(in.Lease), given); err != nil {
		s.fail(c, err)
		return
	}
	c.Status(http.StatusNoContent)
}

func capsView(version int64, c farm.Caps) wire.NodeCaps {
	return wire.NodeCaps{Version: version, Caps: views.CapsView(c)}
}

// waiting returns a context that ends after the seconds that an asker is
// ready to wait, within bounds.
func waiting(c *gin.Context, seconds int) (context.Context, context.CancelFunc) {
	wait := min(max(time.Duration(seconds)*time.Second, 0), maxWait)
	return context.WithTimeout(c.Request.Context(), wait)
}

func (s *Server) ask(c *gin.Context, f *floor.Floor, in wire.Ask) {
	ctx, cancel := waiting(c, in.Seconds)
	defer cancel()
	question := fleet.Question{Session: in.Session, Number: in.Number, Warm: farm.LeaseID(in.Warm)}
	if len(in.Ended) > maxHolding {
		problem(c, http.StatusUnprocessableEntity, "ended", "more leases than a node can hold")
		return
	}
	for _, e := range in.Ended {
		question.Ended = append(question.Ended, fleet.Ended{Lease: farm.LeaseID(e.Lease), Why: short(e.Message)})
	}
	if m := in.Memory; m != nil {
		if len(m.Used) > maxHolding {
			problem(c, http.StatusUnprocessableEntity, "memory", "more leases than a node can hold")
			return
		}
		question.Memory = &capacity.Memory{Free: min(max(m.Free, 0), maxBytes), Used: map[farm.LeaseID]int64{}}
		for _, u := range m.Used {
			question.Memory.Used[farm.LeaseID(u.Lease)] = min(max(u.Bytes, 0), maxBytes)
		}
	}
	a, err := f.Fleet.Ask(ctx, nodeID(c), question)
	if err != nil {
		s.fail(c, err)
		return
	}
	out := wire.Answer{Leases: []wire.Lease{}, More: a.More, Again: a.Again, Why: a.Why}
	for _, l := range a.Leases {
		out.Leases = append(out.Leases, l.Wire())
	}
	c.JSON(http.StatusOK, out)
}

func (s *Server) orders(c *gin.Context, f *floor.Floor, in wire.Orders) {
	if len(in.Leases)+len(in.Errands) > maxHolding {
		problem(c, http.StatusUnprocessableEntity, "leases", "more leases than a node can hold")
		return
	}
	ctx, cancel := waiting(c, in.Seconds)
	defer cancel()
	leases := make([]farm.LeaseID, 0, len(in.Leases))
	for _, l := range in.Leases {
		leases = append(leases, farm.LeaseID(l))
	}
	orders, err := f.Fleet.Orders(
		ctx, nodeID(c), in.Session, fleet.OrdersAsked{
			Leases: leases, Caps: in.Caps, Recipes: short(in.Recipes), Errands: in.Errands,
			Places: short(in.Places),
		},
	)
	out := wire.Ordered{Stop: []wire.Stop{}}
	for _, o := range orders.Stop {
		out.Stop = append(out.Stop, wire.Stop{Lease: int64(o.Lease), Now: o.Now, Reason: o.Reason})
	}
	if orders.Caps != nil {
		caps := capsView(orders.Set, *orders.Caps)
		out.Caps = &caps
	}
	out.Restart, out.Recipes, out.Errands = orders.Restart, orders.Recipes, orders.Errands
	out.Places = orders.Places
	for _, q := range orders.Trim {
		out.Trim = append(out.Trim, wire.Trim{ID: q.ID, Lease: int64(q.Lease), Frames: q.Frames.String()})
	}
	s.answer(c, out, err)
}

func (s *Server) beat(c *gin.Context, f *floor.Floor, in wire.Beat) {
	if wrongProgress(c, in.Leases) {
		return
	}
	b := fleet.Beat{
		Processor: part(in.Processor), Memory: part(in.Memory), Leases: map[farm.LeaseID]fleet.Progress{},
		Signs: views.Signs{
			DiskFree: -1, MemoryFree: -1, DiskTotal: min(max(in.DiskTotal, 0), maxDisk),
			SwapUsed: min(max(in.SwapUsed, 0), maxBytes),
		},
	}
	if in.Now != nil {
		b.Signs.Now = *in.Now
	}
	if in.MemoryFree != nil {
		b.Signs.MemoryFree = min(*in.MemoryFree, maxBytes)
	}
	if in.DiskFree != nil {
		b.Signs.DiskFree = min(*in.DiskFree, maxDisk)
	}
	for _, p := range in.Leases {
		b.Leases[farm.LeaseID(p.Lease)] = fleet.Progress{
			Frame: p.Frame, Phase: short(p.Phase), Fraction: part(p.Fraction), Detail: short(p.Detail),
			Verifying: p.Verifying, Checking: short(p.Checking),
			Trouble: short(p.Trouble), Full: short(p.Full), MemoryBytes: min(max(0, p.MemoryBytes), maxBytes),
		}
	}
	if err := f.Fleet.Beat(c, nodeID(c), in.Session, b); err != nil {
		s.fail(c, err)
		return
	}
	id := int64(nodeID(c))
	if in.Sample != nil {
		s.svc.Gauge().Take(id, sampleOf(*in.Sample))
	}
	c.JSON(http.StatusOK, wire.Beaten{Watched: s.svc.Logbook().Watched(id), PeerKey: s.svc.PeerKey()})
}

var outcomes = map[string]accept.Outcome{
	wire.OutcomeGood: accept.Good, wire.OutcomeDelivered: accept.Delivered, wire.OutcomeFailed: accept.Failed,
	wire.OutcomeEnded: accept.Ended,
}

func (s *Server) report(c *gin.Context, _ *floor.Floor, in wire.Report) {
	if len(in.Items) > maxItems {
		problem(c, http.StatusUnprocessableEntity, "items", fmt.Sprintf("a report has at most %d items", maxItems))
		return
	}
	reports := make([]accept.Report, 0, len(in.Items))
	for i, item := range in.Items {
		outcome, ok := outcomes[item.Outcome]
		if !ok {
			problem(
				c, http.StatusUnprocessableEntity, fmt.Sprintf("items.%d.outcome", i),
				fmt.Sprintf("%q is not an outcome", item.Outcome),
			)
			return
		}
		if field, reason := wrongItem(item); field != "" {
			problem(c, http.StatusUnprocessableEntity, fmt.Sprintf("items.%d.%s", i, field), reason)
			return
		}
		if len(item.Message) > maxMessage {
			item.Message = item.Message[:maxMessage] // the telling line comes first
		}
		var files []farm.File
		for _, f := range item.Files {
			files = append(files, farm.File(f))
		}
		reports = append(reports, accept.Report{
			Files: files, Outcome: outcome, Lease: farm.LeaseID(item.Lease),
			Launch: item.Launch, Frame: item.Frame, Hash: item.Hash,
			Bytes: item.Bytes, StartupSeconds: item.StartupSeconds,
			Fetched:       farm.Fetched{Bytes: item.FetchedBytes, Seconds: item.FetchedSeconds},
			RenderSeconds: item.RenderSeconds,
			CheckSeconds:  item.CheckSeconds, MemoryBytes: max(0, item.MemoryBytes), Cause: item.Cause,
			Message: strings.ToValidUTF8(item.Message, "?"), // it may have been cut inside a character
			Scene:   sceneHash(item.Scene),
			Warning: short(strings.ToValidUTF8(strings.ReplaceAll(item.Warning, "\x00", ""), "?")),
		})
	}
	verdicts, err := s.svc.Report(c, nodeID(c), in.Session, reports)
	out := wire.Reported{Verdicts: []wire.Verdict{}}
	for _, v := range verdicts {
		word := wire.VerdictNoted
		if v.Deliver {
			word = wire.VerdictDeliver
		} else if v.Discard {
			word = wire.VerdictDiscard
		}
		out.Verdicts = append(out.Verdicts, wire.Verdict{Verdict: word, Why: v.Why, Replace: v.Replace, Adopt: v.Adopt})
	}
	s.answer(c, out, err)
}

// maxProbe bounds what a node sends to measure its line.
const maxProbe = 64 << 20

// probe reads what a node sends to measure its line, and forgets it.
func (s *Server) probe(c *gin.Context) {
	if _, err := io.Copy(io.Discard, http.MaxBytesReader(c.Writer, c.Request.Body, maxProbe)); err != nil {
		problem(
			c, http.StatusRequestEntityTooLarge, "",
			fmt.Sprintf("the network is measured with at most %d bytes", maxProbe),
		)
		return
	}
	c.Status(http.StatusNoContent)
}

func (s *Server) leave(c *gin.Context, f *floor.Floor, in wire.Leave) {
	if len(in.Reason) > maxLabel {
		problem(
			c, http.StatusUnprocessableEntity, "reason",
			fmt.Sprintf("the reason has more than %d characters", maxLabel),
		)
		return
	}
	if err := f.Fleet.Leave(c, nodeID(c), in.Session, in.Reason); err != nil {
		s.fail(c, err)
		return
	}
	c.Status(http.StatusNoContent)
}

// maxThumbnail bounds a thumbnail in bytes.
const maxThumbnail = 256 << 10

func (s *Server) putThumbnail(c *gin.Context) {
	run, ok := s.oneRun(c)
	if !ok {
		return
	}
	frame, ok := frameNumber(c)
	if !ok {
		return
	}
	data, err := io.ReadAll(http.MaxBytesReader(c.Writer, c.Request.Body, maxThumbnail))
	if err != nil {
		problem(c, http.StatusRequestEntityTooLarge, "", fmt.Sprintf("a thumbnail has at most %d bytes", maxThumbnail))
		return
	}
	var all frames.Set
	if err := all.UnmarshalText([]byte(run.Frames)); err != nil || !all.Has(frame) {
		problem(c, http.StatusNotFound, "frame", fmt.Sprintf("%s has no frame %d", run.Name, frame))
		return
	}
	size, err := jpeg.DecodeConfig(bytes.NewReader(data))
	if err != nil {
		problem(c, http.StatusUnprocessableEntity, "", "a thumbnail must be a JPEG picture")
		return
	}
	if size.Width > picture.ThumbWidth || size.Height > picture.ThumbWidth {
		problem(
			c, http.StatusUnprocessableEntity, "",
			fmt.Sprintf(
				"a thumbnail has at most %d pixels along a side, this one %d×%d", picture.ThumbWidth, size.Width,
				size.Height,
			),
		)
		return
	}
	switch from, err := s.svc.Store().AcceptedFrom(c, run.ID, frame); {
	case errors.Is(err, store.ErrNotFound), err == nil && from != int64(nodeID(c)):
		problem(
			c, http.StatusForbidden, "",
			fmt.Sprintf("the picture of frame %d that was accepted is not this node's", frame),
		)
		return
	case err != nil:
		s.fail(c, err)
		return
	}
	if err := s.svc.Store().PutThumbnail(c, run.ID, frame, data); err != nil {
		s.fail(c, err)
		return
	}
	c.Status(http.StatusNoContent)
}

// sceneHash is what a node says of a scene that has changed; what is none is nothing.
func sceneHash(text string) string {
	if !fileHash.MatchString(text) {
		return ""
	}
	return text
}
