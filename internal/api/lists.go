package api

import (
	"bytes"
	"errors"
	"fmt"
	"net/http"
	"time"

	"github.com/gin-gonic/gin"

	"vexillum/internal/calendar"
	"vexillum/internal/core/farm"
	"vexillum/internal/roster"
	"vexillum/internal/service/fleet"
	"vexillum/internal/service/floor"
)

// maxList bounds a list of nodes in bytes.
const maxList = 8 << 20

// importNodes reads a list of nodes as CSV; with dry_run it only says what
// that would change.
func (s *Server) importNodes(c *gin.Context, f *floor.Floor) {
	rows, err := roster.Read(http.MaxBytesReader(c.Writer, c.Request.Body, maxList))
	if err != nil {
		problem(c, http.StatusUnprocessableEntity, "list", err.Error()+". Nothing was changed")
		return
	}
	list := make([]fleet.Listed, 0, len(rows))
	for _, r := range rows {
		list = append(list, fleet.Listed(r))
	}
	v, err := f.Fleet.Import(c, list, c.Query("dry_run") == "true", person(c))
	s.answer(c, v, err)
}

// exportNodes writes the list that importNodes reads.
func (s *Server) exportNodes(c *gin.Context, f *floor.Floor) {
	list, err := f.Fleet.List(c)
	if err != nil {
		s.fail(c, err)
		return
	}
	rows := make([]roster.Row, 0, len(list))
	for _, l := range list {
		rows = append(rows, roster.Row(l))
	}
	c.Header("Content-Type", "text/csv; charset=utf-8")
	c.Header("Content-Disposition", `attachment; filename="nodes.csv"`)
	if err := roster.Write(c.Writer, rows); err != nil {
		s.log.Error("exporting nodes", "error", err)
	}
}

// nodeHours writes the duty hours of a node as iCalendar.
func (s *Server) nodeHours(c *gin.Context, f *floor.Floor) {
	id, ok := number(c, "node")
	if !ok {
		return
	}
	name, settings, err := f.Fleet.Settings(c, farm.NodeID(id))
	if err != nil {
		s.fail(c, err)
		return
	}
	if settings.Hours == nil {
		problem(c, http.StatusNotFound, "node", name+" has no duty hours; it is always on duty")
		return
	}
	var out bytes.Buffer
	if err := calendar.Write(&out, name, *settings.Hours, time.Now()); err != nil {
		problem(c, http.StatusConflict, "node", err.Error())
		return
	}
	c.Header("Content-Disposition", fmt.Sprintf(`attachment; filename="%s.ics"`, name))
	c.Data(http.StatusOK, "text/calendar; charset=utf-8", out.Bytes())
}

// setNodeHours gives a node the duty hours of an iCalendar file.
func (s *Server) setNodeHours(c *gin.Context, f *floor.Floor) {
	id, ok := number(c, "node")
	if !ok {
		return
	}
	h, err := calendar.Read(http.MaxBytesReader(c.Writer, c.Request.Body, maxList))
	var large *http.MaxBytesError
	if errors.As(err, &large) {
		problem(c, http.StatusRequestEntityTooLarge, "", fmt.Sprintf("a calendar has at most %d bytes", maxList))
		return
	}
	if err != nil {
		problem(c, http.StatusUnprocessableEntity, "calendar", err.Error()+". Nothing was changed")
		return
	}
	v, err := f.Fleet.SetHours(c, farm.NodeID(id), h, c.Query("dry_run") == "true", person(c))
	s.answer(c, v, err)
}
