package api

import (
	"net/http"
	"strings"

	"github.com/gin-gonic/gin"

	"vexillum/internal/core/farm"
	"vexillum/internal/service/floor"
	"vexillum/internal/wire"
)

func (s *Server) nodePlaces(c *gin.Context, f *floor.Floor) {
	out, err := f.Fleet.NodePlaces(c, nodeID(c))
	s.answer(c, out, err)
}

// Bounds of what a node says of places.
const (
	mostPlacesSeen = 1000
	mostPlaceRate  = 1 << 50 // bytes a second
)

func (s *Server) placesSeen(c *gin.Context, f *floor.Floor, in wire.PlacesSeen) {
	if len(in.Places) > mostPlacesSeen {
		problem(c, http.StatusUnprocessableEntity, "places", "there are not that many places")
		return
	}
	sights := make([]farm.PlaceSight, 0, len(in.Places))
	for _, p := range in.Places {
		sights = append(sights, farm.PlaceSight{
			Place: short(p.Name), Reads: p.Reads, Writes: p.Writes,
			Why:      short(strings.ToValidUTF8(strings.ReplaceAll(p.Why, "\x00", ""), "?")),
			ReadRate: min(max(0, p.ReadRate), mostPlaceRate), WriteRate: min(max(0, p.WriteRate), mostPlaceRate),
		})
	}
	if err := f.Fleet.Seen(c, nodeID(c), in.Session, sights); err != nil {
		s.fail(c, err)
		return
	}
	c.Status(http.StatusNoContent)
}
