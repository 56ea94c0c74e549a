package api

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"image"
	"image/color"
	"image/jpeg"
	"sync"
	"testing"
	"time"

	"vexillum/internal/picture"
)

func thumbsFor(t testing.TB, count int) []thumb {
	t.Helper()
	out := make([]thumb, count)
	for i := range out {
		img := image.NewRGBA(image.Rect(0, 0, picture.ThumbWidth, picture.ThumbWidth*9/16))
		for p := range img.Pix {
			img.Pix[p] = uint8(p * (i + 3))
		}
		img.Set(0, 0, color.White)
		var data bytes.Buffer
		if err := jpeg.Encode(&data, img, nil); err != nil {
			t.Fatal(err)
		}
		out[i] = thumb{i + 1, data.Bytes()}
	}
	return out
}

// TestASheetIsMadeOnce asks for the same sheet many times at once, for another, and goes away
// while one is made.
func TestASheetIsMadeOnce(t *testing.T) {
	s := newSheets()
	thumbs := thumbsFor(t, 40)
	var asking sync.WaitGroup
	var mu sync.Mutex
	results := map[string]int{}
	for range 20 {
		asking.Go(func() {
			png, err := s.draw(t.Context(), "salt_010/final-1", "40 of 40", thumbs)
			if err != nil {
				t.Error(err)
			}
			mu.Lock()
			results[fmt.Sprintf("%p", png)]++
			mu.Unlock()
		})
	}
	asking.Wait()
	if len(results) > sheetsAtOnce { // those that were made before one was kept
		t.Errorf("%d sheets were made for 20 who asked", len(results))
	}
	if _, err := s.draw(t.Context(), "salt_010/final-1", "39 of 40", thumbs[:39]); err != nil {
		t.Fatal(err)
	}
	if len(s.kept) != 2 {
		t.Errorf("%d sheets are kept", len(s.kept))
	}
	gone, leave := context.WithCancel(t.Context())
	leave()
	if _, err := s.draw(gone, "tidal", "", thumbs); !errors.Is(err, context.Canceled) || len(s.kept) != 2 {
		t.Errorf("for somebody who has gone: %v", err)
	}
	for i := range 3 * mostSheets {
		if _, err := s.draw(t.Context(), fmt.Sprint(i), "", thumbs[:1]); err != nil {
			t.Fatal(err)
		}
	}
	if len(s.kept) > mostSheets {
		t.Errorf("%d sheets are kept", len(s.kept))
	}
}

func BenchmarkSheetOf400(b *testing.B) {
	thumbs := thumbsFor(b, picture.MostOnSheet)
	var took time.Duration
	for b.Loop() {
		began := time.Now()
		if _, err := newSheets().draw(b.Context(), "salt_010/final-1", "400 of 400", thumbs); err != nil {
			b.Fatal(err)
		}
		took = time.Since(began)
	}
	b.ReportMetric(took.Seconds(), "s/sheet")
}
