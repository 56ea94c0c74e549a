package inbox

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"vexillum/internal/wire"
)

// farm is what an inbox submits to: every key once.
type farm struct {
	mu    sync.Mutex
	keys  map[string]string // whose, by key
	runs  int
	fails int // so many submits fail for no fault of the file
}

func (f *farm) submit(_ context.Context, person, text, key string) ([]wire.Receipt, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.fails > 0 {
		f.fails--
		return nil, errors.New("the service is reading its records again")
	}
	if strings.Contains(text, "bad") {
		return nil, &Refusal{[]string{"line 3: there is no scene bad.pov", "line 4: twice"}}
	}
	if f.keys == nil {
		f.keys = map[string]string{}
	}
	if f.keys[key] == "" {
		f.keys[key] = person
		f.runs++
	}
	return []wire.Receipt{{Run: int64(f.runs), Name: "salt_010/final-1"}}, nil
}

type clock struct{ now time.Time }

func (c *clock) wait() { c.now = c.now.Add(Settles + time.Second) }

func open(t *testing.T, folder string, f *farm, c *clock) *Inbox {
	t.Helper()
	b, err := New(Options{
		Folder: folder, Person: "nadia", Submit: f.submit, Log: slog.New(slog.DiscardHandler),
		Now: func() time.Time { return c.now },
	})
	if err != nil {
		t.Fatal(err)
	}
	return b
}

func drop(t *testing.T, folder, name, text string) {
	t.Helper()
	if err := os.MkdirAll(filepath.Dir(filepath.Join(folder, name)), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(folder, name), []byte(text), 0o644); err != nil {
		t.Fatal(err)
	}
}

func there(t *testing.T, folder string, want ...string) {
	t.Helper()
	var got []string
	err := filepath.WalkDir(folder, func(path string, d os.DirEntry, err error) error {
		if err == nil && !d.IsDir() {
			rel, _ := filepath.Rel(folder, path)
			got = append(got, rel)
		}
		return err
	})
	if err != nil || strings.Join(got, " ") != strings.Join(want, " ") {
		t.Errorf("there is %v, want %v (%v)", got, want, err)
	}
}

func TestFilesAreTakenOrRefused(t *testing.T) {
	folder, f, c := t.TempDir(), &farm{}, &clock{time.Unix(1e9, 0)}
	b := open(t, folder, f, c)
	look := func() {
		t.Helper()
		if err := b.Look(t.Context()); err != nil {
			t.Fatal(err)
		}
	}
	drop(t, folder, "a.yaml", "half of")
	look()
	drop(t, folder, "a.yaml", "half of it") // it is still being copied
	c.wait()
	look()
	if f.runs != 0 {
		t.Fatal("half a file was taken")
	}
	drop(t, folder, "oona/b.yml", "all of it")
	drop(t, folder, "bad.json", "bad")
	drop(t, folder, "notes.txt", "nothing")
	drop(t, folder, ".hidden.yaml", "nothing")
	drop(t, folder, "huge.yaml", strings.Repeat("#", mostBytes+10))
	if err := os.Symlink("/etc/hostname", filepath.Join(folder, "link.yaml")); err != nil {
		t.Fatal(err)
	}
	look()
	c.wait()
	look()
	there(
		t, folder, ".hidden.yaml", "link.yaml", "notes.txt", "refused/bad.json", "refused/bad.json.reason.txt",
		"refused/huge.yaml", "refused/huge.yaml.reason.txt", "taken/a.yaml", "taken/a.yaml.receipt.json", "taken/b.yml",
		"taken/b.yml.receipt.json",
	)
	owners := map[string]int{}
	for _, person := range f.keys {
		owners[person]++
	}
	if f.runs != 2 || owners["nadia"] != 1 || owners["oona"] != 1 {
		t.Errorf("%d are submitted, of %v", f.runs, owners)
	}
	reason, _ := os.ReadFile(filepath.Join(folder, "refused/bad.json.reason.txt"))
	if string(reason) != "line 3: there is no scene bad.pov\nline 4: twice\n" {
		t.Errorf("the reason is %q", reason)
	}
	// The same file once more is a run once more.
	drop(t, folder, "a.yaml", "half of it")
	look()
	c.wait()
	look()
	if f.runs != 3 {
		t.Errorf("%d are submitted", f.runs)
	}
	if _, err := os.Stat(filepath.Join(folder, "taken/a-2.yaml.receipt.json")); err != nil {
		t.Error(err)
	}
}

// TestNothingIsSubmittedTwice lets services end in the middle and two of them look at once.
func TestNothingIsSubmittedTwice(t *testing.T) {
	folder, f := t.TempDir(), &farm{fails: 1}
	c := &clock{time.Unix(1e9, 0)}
	b := open(t, folder, f, c)
	drop(t, folder, "a.yaml", "it")
	_ = b.Look(t.Context())
	c.wait()
	if err := b.Look(t.Context()); err == nil {
		t.Fatal("an error of the service is not told")
	}
	// Claimed, submitted by a service that ended before it could say so, and taken by the next.
	claims, err := os.ReadDir(filepath.Join(folder, taking))
	if err != nil || len(claims) != 1 {
		t.Fatalf("%v, %v", claims, err)
	}
	key, _, _ := strings.Cut(claims[0].Name(), "+")
	if _, err := f.submit(t.Context(), "nadia", "it", "inbox "+key); err != nil {
		t.Fatal(err)
	}
	next := open(t, folder, f, c)
	if err := next.Look(t.Context()); err != nil || f.runs != 1 {
		t.Errorf("%d are submitted, %v", f.runs, err)
	}
	there(t, folder, "taken/a.yaml", "taken/a.yaml.receipt.json")

	for i := range 60 {
		drop(t, folder, fmt.Sprintf("x%02d.yaml", i), "it")
	}
	f.runs = 0
	var services sync.WaitGroup
	for range 4 {
		services.Go(func() {
			own := &clock{time.Unix(1e9, 0)}
			s := open(t, folder, f, own)
			for range 6 {
				_ = s.Look(context.Background())
				own.wait()
			}
		})
	}
	services.Wait()
	if left, _ := os.ReadDir(filepath.Join(folder, taking)); f.runs != 60 || len(left) != 0 {
		t.Errorf("60 files came to %d submits, and %d are left", f.runs, len(left))
	}
	entries, _ := os.ReadDir(filepath.Join(folder, taken))
	if len(entries) != 2+2*60 {
		t.Errorf("%d files lie in taken", len(entries))
	}
}

// TestOneFileKeepsNoOtherWaiting drops a file with the longest name that there can be, and one
// whose folder is called as somebody could be, beside others.
func TestOneFileKeepsNoOtherWaiting(t *testing.T) {
	folder, f, c := t.TempDir(), &farm{}, &clock{time.Unix(1e9, 0)}
	b := open(t, folder, f, c)
	long := strings.Repeat("é", 124) + ".yaml" // 253 bytes
	drop(t, folder, long, "all of it")
	drop(t, folder, "ina+evil/a.yaml", "all of it")
	drop(t, folder, "ines/"+strings.Repeat("z", 250)+".yml", "all of it")
	drop(t, folder, strings.Repeat("p", 255)+"/b.yaml", "all of it") // a folder that nobody can be called
	drop(t, folder, "z.yaml", "all of it")
	_ = b.Look(t.Context()) // what cannot be taken is an error
	c.wait()
	if err := b.Look(t.Context()); err == nil || !strings.Contains(err.Error(), "too long") {
		t.Errorf("a folder whose name is too long: %v", err)
	}
	persons := map[string]int{}
	for _, person := range f.keys {
		persons[person]++
	}
	if f.runs != 4 || persons["nadia"] != 2 || persons["ina+evil"] != 1 || persons["ines"] != 1 {
		t.Errorf("%d runs, of %v", f.runs, persons)
	}
	kept, err := os.ReadDir(filepath.Join(folder, taken))
	if err != nil || len(kept) != 8 {
		t.Errorf("%d files are kept, %v", len(kept), err)
	}
	if info, err := os.Stat(filepath.Join(folder, taking)); err != nil || info.Mode().Perm() != 0o700 {
		t.Errorf("others may write to what is being taken: %v, %v", info.Mode(), err)
	}
}
