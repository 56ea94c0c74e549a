package api

import (
	"github.com/gin-gonic/gin"

	"vexillum/internal/core/farm"
	"vexillum/internal/service/floor"
	"vexillum/internal/wire"
)

// hands returns what needs a hand now, what costs most first.
func (s *Server) hands(c *gin.Context, f *floor.Floor) {
	v, err := f.Views.Hands(c, s.sight(c))
	s.answer(c, v, err)
}

// pastHands returns what needed a hand, newest first.
func (s *Server) pastHands(c *gin.Context, f *floor.Floor) {
	before, ok := query(c, "before", 0, 0, 1<<62)
	if !ok {
		return
	}
	limit, ok := query(c, "limit", 50, 1, 500)
	if !ok {
		return
	}
	sight := s.sight(c)
	found, err := s.svc.Store().Hands(c, before, int(limit), sight.Hidden())
	out := wire.PastHands{Hands: []wire.PastHand{}}
	var sentences []*string
	saying, sayingErr := f.Views.Saying(c)
	if err == nil {
		err = sayingErr
	}
	for _, h := range found {
		if now, open := saying[h.ID]; open {
			h.Sentence, h.Evidence = now[0], now[1]
		}
		out.Hands = append(out.Hands, wire.PastHand(h))
	}
	for i := range out.Hands {
		sentences = append(sentences, &out.Hands[i].Sentence, &out.Hands[i].Evidence)
	}
	if err == nil {
		err = f.Views.Veiled(c, sight, sentences...)
	}
	if len(found) == int(limit) {
		out.Next = found[len(found)-1].ID
	}
	s.answer(c, out, err)
}

// actOnHand does what a person does about something that needs a hand, and returns what
// needs one then.
func (s *Server) actOnHand(c *gin.Context, f *floor.Floor, in wire.HandAct) {
	id, ok := number(c, "hand")
	if !ok {
		return
	}
	err := f.Hands.Act(c, farm.HandID(id), in, person(c))
	if err != nil {
		s.answer(c, nil, err)
		return
	}
	s.hands(c, f)
}
