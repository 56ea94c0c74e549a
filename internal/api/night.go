package api

import (
	"net/http"
	"time"

	"github.com/gin-gonic/gin"

	"vexillum/internal/service"
)

// night returns what went wrong in a while.
func (s *Server) night(c *gin.Context) {
	q := service.NightQuery{From: c.Query("from"), To: c.Query("to"), Day: c.Query("day"), Zone: c.Query("zone")}
	for name, at := range map[string]*time.Time{"since": &q.Since, "until": &q.Until} {
		text := c.Query(name)
		if text == "" {
			continue
		}
		when, err := time.Parse(time.RFC3339, text)
		if err != nil {
			problem(c, http.StatusUnprocessableEntity, name, name+" is a time like 2031-03-04T05:06:07Z")
			return
		}
		*at = when
	}
	if q.Since.IsZero() != q.Until.IsZero() {
		problem(c, http.StatusUnprocessableEntity, "until", "since and until go together")
		return
	}
	v, err := s.svc.Night(c, q, s.sight(c))
	s.answer(c, v, err)
}
