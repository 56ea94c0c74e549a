package api

import (
	"net/http"

	"github.com/gin-gonic/gin"

	"vexillum/internal/service/floor"
	"vexillum/internal/service/views"
)

// Runs on a page of the queue.
const (
	pageSize     = 50
	mostPageSize = 500
	mostPages    = 1 << 31
)

// queue returns a page of all runs that there ever were.
func (s *Server) queue(c *gin.Context, f *floor.Floor) {
	page, ok := query(c, "page", 1, 1, mostPages)
	if !ok {
		return
	}
	size, ok := query(c, "size", pageSize, 1, mostPageSize)
	if !ok {
		return
	}
	for _, name := range []string{"search", "project", "state", "owner", "due", "sort"} {
		if len(c.Query(name)) > maxLabel {
			problem(c, http.StatusUnprocessableEntity, name, name+" is too long to search for")
			return
		}
	}
	v, err := f.Views.QueuePage(c, views.Search{
		Text: c.Query("search"), Project: c.Query("project"), State: c.Query("state"), Owner: c.Query("owner"),
		Due: c.Query("due"), Sort: c.Query("sort"), Down: c.Query("down") == "true", Page: int(page),
		Size: int(size),
	}, s.sight(c))
	s.answer(c, v, err)
}
