package api

import (
	"github.com/gin-gonic/gin"

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

// actOnHands does what a person does about what needs a hand.
func (s *Server) actOnHands(c *gin.Context, f *floor.Floor, in wire.HandAct) {
	v, err := f.Hands.Act(c, in, person(c))
	if err != nil {
		s.fail(c, err)
		return
	}
	saying, err := f.Views.Saying(c)
	if err != nil {
		s.fail(c, err)
		return
	}
	var sentences []*string
	for i, h := range v.Hands {
		if now, open := saying[h.ID]; open {
			v.Hands[i].Sentence = now[0]
		}
		sentences = append(sentences, &v.Hands[i].Sentence)
	}
	s.answer(c, v, f.Views.Veiled(c, s.sight(c), sentences...))
}
