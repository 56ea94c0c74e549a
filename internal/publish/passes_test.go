package publish

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"

	"vexillum/internal/core/farm"
)

// rendering is one picture of a frame with its passes, as some lease made it.
type rendering struct {
	Target
	sources []string
}

var passNames = []string{"", "depth", "matte"}

// renderings makes as many as asked, no two alike. Each of them was accepted.
func renderings(t *testing.T, root string, count int) []rendering {
	var out []rendering
	var hashes []string
	for i := range count {
		r := rendering{Target: Target{Root: root, Folder: "a/final-1", Lease: int64(i + 1)}}
		for _, pass := range passNames {
			content := fmt.Sprintf("pass %q of rendering %d", pass, i)
			name := filepath.Join(t.TempDir(), "file")
			if err := os.WriteFile(name, []byte(content), 0o644); err != nil {
				t.Fatal(err)
			}
			sum := sha256.Sum256([]byte(content))
			f := farm.File{Pass: pass, Hash: hex.EncodeToString(sum[:]), Bytes: int64(len(content))}
			r.sources = append(r.sources, name)
			r.Files = append(
				r.Files, File{File: f, Name: filepath.Join(pass, strings.Trim("a."+pass, ".")+".0001.png")},
			)
		}
		out, hashes = append(out, r), append(hashes, r.Hash())
	}
	for i := range out {
		out[i].Adopt = hashes
	}
	return out
}

// stands returns which rendering's files stand in the frame's place; none is
// -1, and a mixture fails the test.
func stands(t *testing.T, all []rendering) int {
	t.Helper()
	which, found := -1, 0
	for i, f := range all[0].Files {
		data, err := os.ReadFile(filepath.Join(all[0].Root, all[0].path(f)))
		if errors.Is(err, os.ErrNotExist) {
			continue
		}
		if err != nil {
			t.Fatal(err)
		}
		found++
		sum := sha256.Sum256(data)
		of := slices.IndexFunc(all, func(r rendering) bool { return r.Files[i].Hash == hex.EncodeToString(sum[:]) })
		if of < 0 || which >= 0 && of != which {
			t.Fatalf("passes of renderings %d and %d stand together", which, of)
		}
		which = of
	}
	if found != 0 && found != len(passNames) {
		t.Fatalf("%d of %d files stand there", found, len(passNames))
	}
	return which
}

// TestPassesGoTogether lets many nodes publish different renderings of one
// frame at once, all of which were accepted at some time.
func TestPassesGoTogether(t *testing.T) {
	for round := range 60 {
		root := t.TempDir()
		all := renderings(t, root, 5)
		got := make([]Standing, len(all))
		var wg sync.WaitGroup
		for i, r := range all {
			wg.Go(func() {
				for range 1 + rand.IntN(3) { // told again, it says the same
					at, err := Copy(r.sources, r.Target)
					if err != nil {
						t.Errorf("rendering %d: %v", i, err)
					}
					got[i] = at
				}
			})
		}
		wg.Wait()
		which := stands(t, all)
		if which < 0 {
			t.Fatal("nothing stands there")
		}
		for i, at := range got {
			if at.Hash != all[which].Hash() || len(at.Files) != 3 || at.Bytes != bytesOf(at.Files) {
				t.Errorf("round %d: rendering %d was told %+v, rendering %d stands there", round, i, at, which)
			}
		}
		for _, folder := range []string{"", "depth", "matte"} {
			for _, name := range list(t, filepath.Join(root, "a/final-1", folder)) {
				if litter.MatchString(name) {
					t.Errorf("left behind: %s/%s", folder, name)
				}
			}
		}
	}
}

func bytesOf(files []farm.File) (all int64) {
	for _, f := range files {
		all += f.Bytes
	}
	return all
}

// TestADeedIsCarriedOut leaves a frame as a node leaves it that dies at any
// step of publishing, and lets another node come with its own rendering: by
// itself, through the service in pieces, or the same node again.
func TestADeedIsCarriedOut(t *testing.T) {
	steps := []string{"one part", "all parts", "the deed", "the picture", "a pass", "all", "the deed is gone"}
	for step, name := range steps {
		for _, next := range []string{"another", "in pieces", "the same"} {
			t.Run(name+" then "+next, func(t *testing.T) {
				all := renderings(t, t.TempDir(), 2)
				die(t, all[0], step)
				heir := all[1]
				if next == "the same" {
					heir = all[0]
				}
				var at Standing
				var err error
				if next == "in pieces" {
					at, err = inPieces(t, heir)
				} else {
					at, err = Copy(heir.sources, heir.Target)
				}
				if err != nil {
					t.Fatal(err)
				}
				want := 0
				if step < 2 && next != "the same" {
					want = 1 // it was not published yet
				}
				if which := stands(t, all); which != want || at.Hash != all[want].Hash() {
					t.Errorf("rendering %d stands there, told was %+v, want %d", which, at, want)
				}
			})
		}
	}
}

// die publishes up to a step.
func die(t *testing.T, r rendering, step int) {
	t.Helper()
	root, err := r.open()
	if err != nil {
		t.Fatal(err)
	}
	defer root.Close()
	must := func(err error) {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
	}
	for i, f := range r.Files {
		if i == 0 || step > 0 {
			must(copyInto(root, r.part(f), r.Below, r.sources[i], f.Hash))
		}
	}
	if step >= 2 {
		must(r.writeDeed(root))
	}
	for i, f := range r.Files {
		if step >= 3+i {
			must(r.put(root, r.part(f), r.path(f), f.Hash))
		}
	}
	if step >= 6 {
		must(root.Remove(r.deedFile()))
	}
}

func inPieces(t *testing.T, r rendering) (at Standing, err error) {
	t.Helper()
	for i, source := range r.sources {
		data, err := os.ReadFile(source)
		if err != nil {
			t.Fatal(err)
		}
		have, at, err := Have(r.Target, i)
		if err != nil || at.Hash != "" {
			return at, err
		}
		for from := have; from < int64(len(data)); {
			if from, at, err = Append(
				r.Target, i, from, strings.NewReader(string(data[from:min(from+7, int64(len(data)))])),
			); err != nil ||
				at.Hash != "" {
				return at, err
			}
		}
	}
	return at, errors.New("all was sent and nothing is published")
}

// TestStrangersStay leaves files of strangers where frames with passes go.
func TestStrangersStay(t *testing.T) {
	for i, pass := range passNames {
		t.Run("pass "+pass, func(t *testing.T) {
			all := renderings(t, t.TempDir(), 2)
			r := all[0]
			name := filepath.Join(r.Root, r.path(r.Files[i]))
			if err := os.MkdirAll(filepath.Dir(name), 0o755); err != nil {
				t.Fatal(err)
			}
			if err := os.WriteFile(name, []byte("a stranger's"), 0o644); err != nil {
				t.Fatal(err)
			}
			if _, err := Copy(r.sources, r.Target); !errors.Is(err, ErrForeign) {
				t.Errorf("over a stranger's file: %v", err)
			}
			if data, _ := os.ReadFile(name); string(data) != "a stranger's" {
				t.Errorf("it is %q now", data)
			}
			for j, f := range r.Files {
				if _, err := os.Stat(filepath.Join(r.Root, r.path(f))); j != i && err == nil {
					t.Errorf("%s stands there without the rest", f.Name)
				}
			}
		})
	}
	t.Run("a deed that was not accepted", func(t *testing.T) {
		all := renderings(t, t.TempDir(), 2)
		die(t, all[0], 3)
		all[1].Adopt = nil
		if _, err := Copy(all[1].sources, all[1].Target); !errors.Is(err, ErrForeign) {
			t.Errorf("it went over it: %v", err)
		}
	})
	t.Run("a deed that cannot be read", func(t *testing.T) {
		all := renderings(t, t.TempDir(), 1)
		die(t, all[0], 2)
		if err := os.WriteFile(filepath.Join(all[0].Root, all[0].deedFile()), []byte("{"), 0o644); err != nil {
			t.Fatal(err)
		}
		if _, err := Copy(all[0].sources, all[0].Target); !errors.Is(err, ErrForeign) ||
			!strings.Contains(err.Error(), "remove it") {
			t.Errorf("an unreadable deed: %v", err)
		}
	})
}
