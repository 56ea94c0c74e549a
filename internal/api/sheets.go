package api

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/binary"
	"fmt"
	"net/http"
	"slices"
	"sync"

	"github.com/gin-gonic/gin"

	"vexillum/internal/picture"
	"vexillum/internal/wire"
)

// sheets makes contact sheets, few at once, and keeps those that it made last by what is on
// them: a page that is looked at by many asks for the same one again and again.
type sheets struct {
	making chan struct{}

	mu   sync.Mutex
	kept []keptSheet // used last at the end
}

type keptSheet struct {
	key [sha256.Size]byte
	png []byte
}

// Bounds of contact sheets.
const (
	sheetsAtOnce = 2
	mostSheets   = 24
	mostKept     = 48 << 20 // bytes of all that are kept
)

func newSheets() *sheets { return &sheets{making: make(chan struct{}, sheetsAtOnce)} }

// thumb is a frame for a sheet.
type thumb struct {
	frame int
	jpeg  []byte
}

// sheetKey is the same for what gives the same sheet.
func sheetKey(title, under string, thumbs []thumb) (key [sha256.Size]byte) {
	sum := sha256.New()
	fmt.Fprintf(sum, "%q %q\n", title, under)
	for _, t := range thumbs {
		of := sha256.Sum256(t.jpeg)
		_ = binary.Write(sum, binary.LittleEndian, int64(t.frame)) // a hash takes everything
		_, _ = sum.Write(of[:])
	}
	sum.Sum(key[:0])
	return key
}

// draw returns a sheet as PNG. It stops when the context ends.
func (s *sheets) draw(ctx context.Context, title, under string, thumbs []thumb) ([]byte, error) {
	key := sheetKey(title, under, thumbs)
	if png := s.find(key); png != nil {
		return png, nil
	}
	select {
	case s.making <- struct{}{}:
		defer func() { <-s.making }()
	case <-ctx.Done():
		return nil, ctx.Err()
	}
	if png := s.find(key); png != nil { // somebody else has just asked for it
		return png, nil
	}
	sheet := picture.NewSheet(title, under)
	for _, t := range thumbs {
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		if err := sheet.Add(t.frame, t.jpeg); err != nil {
			return nil, err
		}
	}
	var out bytes.Buffer
	if err := sheet.WritePNG(ctx, &out); err != nil {
		return nil, err
	}
	s.keep(keptSheet{key, out.Bytes()})
	return out.Bytes(), nil
}

func (s *sheets) find(key [sha256.Size]byte) []byte {
	s.mu.Lock()
	defer s.mu.Unlock()
	i := slices.IndexFunc(s.kept, func(k keptSheet) bool { return k.key == key })
	if i < 0 {
		return nil
	}
	k := s.kept[i]
	s.kept = append(slices.Delete(s.kept, i, i+1), k)
	return k.png
}

func (s *sheets) keep(k keptSheet) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if slices.ContainsFunc(s.kept, func(other keptSheet) bool { return other.key == k.key }) {
		return // two were made at once
	}
	s.kept = append(s.kept, k)
	all := 0
	for _, other := range s.kept {
		all += len(other.png)
	}
	for len(s.kept) > mostSheets || all > mostKept && len(s.kept) > 0 {
		all -= len(s.kept[0].png)
		s.kept = slices.Delete(s.kept, 0, 1)
	}
}

func (s *Server) contactSheet(c *gin.Context) {
	run, ok := s.oneRun(c)
	if !ok {
		return
	}
	var thumbs []thumb
	if err := s.svc.Store().Thumbnails(c, run.ID, picture.MostOnSheet, func(frame int, jpeg []byte) error {
		thumbs = append(thumbs, thumb{frame, bytes.Clone(jpeg)})
		return nil
	}); err != nil {
		s.fail(c, err)
		return
	}
	png, err := s.sheets.draw(c.Request.Context(), run.Name, underSheet(run), thumbs)
	if err != nil {
		s.fail(c, err)
		return
	}
	c.Data(http.StatusOK, "image/png", png)
}

// underSheet is the line under the title of a contact sheet. It says nothing of the time at which
// somebody looks, so that the same frames give the same sheet.
func underSheet(run wire.Run) string {
	text := fmt.Sprintf("%d of %d frames · %dx%d", run.DoneCount, run.FrameCount, run.Width, run.Height)
	if run.EndedAt != nil {
		text += " · " + run.EndedAt.Format("Mon 2 Jan 15:04")
	}
	return text
}
