package api

import (
	"net/http"
	"slices"

	"github.com/gin-gonic/gin"

	"vexillum/internal/core/farm"
	"vexillum/internal/service"
	"vexillum/internal/service/floor"
	"vexillum/internal/service/refusal"
	"vexillum/internal/wire"
)

// mostJobs bounds the body of a request with a job file, in bytes: in JSON it is longer.
const mostJobs = 10 << 20

func (s *Server) submitJobs(c *gin.Context, _ *floor.Floor, in wire.SubmitJobs) {
	key, digest := keyOf(c, in)
	done, err := s.svc.SubmitJobs(c, in, person(c), key, digest)
	if err != nil {
		s.fail(c, err)
		return
	}
	out, status := wire.JobsSubmitted{DryRun: in.DryRun, Receipts: []wire.Receipt{}}, http.StatusCreated
	for _, d := range done {
		receipt := service.Receipt(d)
		receipt.DryRun = in.DryRun && !d.Again
		if d.Again || in.DryRun {
			status = http.StatusOK
		}
		out.Receipts = append(out.Receipts, receipt)
		out.FrameCount += receipt.FrameCount
	}
	c.JSON(status, out)
}

// submitFinal submits the final of a proof.
func (s *Server) submitFinal(c *gin.Context, _ *floor.Floor, in wire.SubmitFinal) {
	id, ok := number(c, "run")
	if !ok {
		return
	}
	key, _ := keyOf(c, in)
	done, err := s.svc.SubmitFinal(c, farm.RunID(id), in.DryRun, person(c), key)
	if err != nil {
		s.fail(c, err)
		return
	}
	receipt, status := service.Receipt(done), http.StatusCreated
	receipt.DryRun = in.DryRun && !done.Again
	if done.Again || in.DryRun {
		status = http.StatusOK
	}
	c.JSON(status, receipt)
}

func presetOf(c *gin.Context) farm.PresetKey {
	return farm.PresetKey{Project: c.Query("project"), Recipe: c.Query("recipe"), Name: c.Param("preset")}
}

func (s *Server) presets(c *gin.Context, f *floor.Floor) {
	v, err := f.Setup.Presets(c, person(c).Name, c.Query("dropped") == "true")
	v = slices.DeleteFunc(v, func(p wire.Preset) bool { return !s.sight(c).Sees(p.Project) })
	s.answer(c, v, err)
}

func (s *Server) setPreset(c *gin.Context, f *floor.Floor, in wire.PresetChange) {
	v, err := f.Setup.SetPreset(c, presetOf(c), in, match(c), person(c))
	s.changed(c, v, v.Etag, err)
}

func (s *Server) dropPreset(c *gin.Context, f *floor.Floor) {
	s.done(c, f.Setup.DropPreset(c, presetOf(c), person(c)))
}

func (s *Server) choosePreset(c *gin.Context, f *floor.Floor, in wire.PresetChoice) {
	if !s.sight(c).Sees(in.Project) {
		s.fail(c, refusal.NoProject(in.Project))
		return
	}
	s.done(c, f.Setup.ChoosePreset(c, farm.PresetKey(in), person(c)))
}

func (s *Server) browse(c *gin.Context) {
	v, err := s.svc.Browse(c, c.Param("project"), c.Query("path"), s.sight(c))
	s.answer(c, v, err)
}

func (s *Server) scene(c *gin.Context) {
	v, err := s.svc.Scene(c, c.Param("project"), c.Query("path"), c.Query("recipe"), person(c))
	s.answer(c, v, err)
}

func (s *Server) estimate(c *gin.Context, _ *floor.Floor, in wire.Estimating) {
	if (in.Submit == nil) == (in.Text == "") {
		problem(c, http.StatusUnprocessableEntity, "submit", "give either one run to submit, or the text of a job file")
		return
	}
	if in.Submit != nil {
		v, err := s.svc.EstimateOne(c, *in.Submit, person(c))
		s.answer(c, v, err)
		return
	}
	v, err := s.svc.EstimateJobs(c, wire.SubmitJobs{Text: in.Text, Proof: in.Proof}, person(c))
	s.answer(c, v, err)
}

func (s *Server) preflight(c *gin.Context, _ *floor.Floor, in wire.Preflighting) {
	v, err := s.svc.Preflight(c, in, person(c))
	s.answer(c, v, err)
}
