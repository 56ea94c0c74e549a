// Package inbox takes job files that are dropped into a folder. A file is taken when it is
// complete, submitted once whatever happens meanwhile, and then lies in taken/ with its
// receipt beside it, or in refused/ with the reason. It knows folders and files; what is
// done with their text is told to it.
//
// A file in a folder that is called like a person is that person's; others are of whoever
// the inbox was set up for. What begins with a dot, and what ends in none of the endings of
// job files, is left alone.
package inbox

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"vexillum/internal/plainfile"
	"vexillum/internal/wire"
)

// Folders inside an inbox.
const (
	taken   = "taken"
	refused = "refused"
	taking  = ".taking" // claimed by a service, which may have ended meanwhile
)

// Bounds.
const (
	Pause     = time.Second     // between two looks
	Settles   = 2 * time.Second // a file that was not written to for so long is complete
	mostBytes = 4 << 20         // of a job file
	mostFiles = 200             // taken in one look
)

// endings are those of job files.
var endings = []string{".yaml", ".yml", ".json"}

// Refusal is an error of Submit that is the file's own fault: it is not tried again.
type Refusal struct{ Lines []string }

// Error returns its lines.
func (r *Refusal) Error() string { return strings.Join(r.Lines, "\n") }

// Options are what an Inbox works with.
type Options struct {
	Folder string
	Person string // whose the files are that lie in it directly
	// Submit submits the text of a job file once under a key. A *[Refusal] says that it never
	// will; after any other error it is asked again later.
	Submit func(ctx context.Context, person, text, key string) ([]wire.Receipt, error)
	Log    *slog.Logger
	Now    func() time.Time
}

// Inbox watches a folder. Use New, then Run.
type Inbox struct {
	o    Options
	seen map[string]sighting // files that are not complete yet, by path
}

// sighting is how a file was at the first look at which it was so.
type sighting struct {
	size  int64
	mod   time.Time
	since time.Time
}

// New returns an Inbox, and makes its folders.
func New(o Options) (*Inbox, error) {
	for _, folder := range []string{"", taken, refused, taking} {
		if err := os.MkdirAll(filepath.Join(o.Folder, folder), 0o777); err != nil {
			return nil, fmt.Errorf("making the inbox: %w", err)
		}
	}
	// The name of a file in there says whose it is.
	if err := os.Chmod(filepath.Join(o.Folder, taking), 0o700); err != nil {
		return nil, fmt.Errorf("making the inbox: %w", err)
	}
	return &Inbox{o: o, seen: map[string]sighting{}}, nil
}

// Run looks into the folder until the context ends.
func (b *Inbox) Run(ctx context.Context) {
	tick := time.NewTicker(Pause)
	defer tick.Stop()
	for {
		if err := b.Look(ctx); err != nil && ctx.Err() == nil {
			b.o.Log.Warn("looking into the inbox", "folder", b.o.Folder, "error", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
	}
}

// Look takes what is complete, and first what an earlier service has claimed and not
// finished.
func (b *Inbox) Look(ctx context.Context) error {
	claims, err := os.ReadDir(filepath.Join(b.o.Folder, taking))
	if err != nil {
		return fmt.Errorf("reading what is being taken: %w", err)
	}
	// One file that cannot be taken keeps no other waiting.
	var all []error
	for _, c := range claims {
		all = append(all, b.finish(ctx, c.Name()))
	}
	files, err := b.complete()
	if err != nil {
		return err
	}
	for _, f := range files[:min(len(files), mostFiles)] {
		claim, err := b.claim(f)
		if errors.Is(err, fs.ErrNotExist) { // another service was faster
			continue
		}
		if err == nil {
			err = b.finish(ctx, claim)
		}
		all = append(all, err)
	}
	return errors.Join(all...)
}

// file is a file that may be taken.
type file struct{ person, name, path string }

// complete returns the files that nobody writes to any more.
func (b *Inbox) complete() (out []file, err error) {
	before := b.seen
	b.seen = map[string]sighting{}
	look := func(folder, person string) error {
		entries, err := os.ReadDir(folder)
		if err != nil {
			return err
		}
		for _, e := range entries {
			if strings.HasPrefix(e.Name(), ".") || !slices.Contains(endings, strings.ToLower(filepath.Ext(e.Name()))) {
				continue
			}
			info, err := e.Info()
			if err != nil || !info.Mode().IsRegular() {
				continue
			}
			path := filepath.Join(folder, e.Name())
			is := sighting{info.Size(), info.ModTime(), b.o.Now()}
			if was, known := before[path]; known && was.size == is.size && was.mod.Equal(is.mod) {
				is.since = was.since
			}
			b.seen[path] = is
			if b.o.Now().Sub(is.since) >= Settles {
				out = append(out, file{person, e.Name(), path})
			}
		}
		return nil
	}
	if err := look(b.o.Folder, b.o.Person); err != nil {
		return nil, fmt.Errorf("reading the inbox: %w", err)
	}
	folders, err := os.ReadDir(b.o.Folder)
	if err != nil {
		return nil, fmt.Errorf("reading the inbox: %w", err)
	}
	for _, f := range folders {
		if f.IsDir() && !strings.HasPrefix(f.Name(), ".") && f.Name() != taken && f.Name() != refused {
			if err := look(filepath.Join(b.o.Folder, f.Name()), f.Name()); err != nil {
				b.o.Log.Warn("a folder of the inbox cannot be read", "folder", f.Name(), "error", err)
			}
		}
	}
	return out, nil
}

// claim moves a file to where only one service has it, under a name that says whose it is
// and under which key it is submitted, also by a later service.
func (b *Inbox) claim(f file) (name string, err error) {
	// Names may be as long as the system takes: what is put before must not make them longer. A +
	// in the name of a folder must not be taken for the end of it.
	name = strings.Join([]string{uuid.NewString(), url.QueryEscape(f.person), short(f.name, mostClaimed)}, "+")
	if len(name) > mostName {
		return "", fmt.Errorf("taking %s: the name of its folder is too long", f.name)
	}
	if err := os.Rename(f.path, filepath.Join(b.o.Folder, taking, name)); err != nil {
		return "", fmt.Errorf("taking %s: %w", f.name, err)
	}
	delete(b.seen, f.path)
	return name, nil
}

// finish submits a claimed file and puts it where it belongs.
func (b *Inbox) finish(ctx context.Context, claim string) error {
	parts := strings.SplitN(claim, "+", 3)
	if len(parts) != 3 {
		return nil // nothing of ours
	}
	person, err := url.QueryUnescape(parts[1])
	if err != nil {
		return nil //nolint:nilerr // nothing of ours
	}
	key, name := parts[0], parts[2]
	path := filepath.Join(b.o.Folder, taking, claim)
	text, err := plainfile.Read(path, mostBytes+1)
	switch {
	case errors.Is(err, fs.ErrNotExist): // another service has finished it
		return nil
	case err != nil:
		return b.put(path, refused, name, ".reason.txt", []byte(fmt.Sprintf("the file cannot be read: %v\n", err)))
	case len(text) > mostBytes:
		reason := fmt.Sprintf("the file has more than %d bytes; split it\n", mostBytes)
		return b.put(path, refused, name, ".reason.txt", []byte(reason))
	}
	receipts, err := b.o.Submit(ctx, person, string(text), "inbox "+key)
	var no *Refusal
	switch {
	case errors.As(err, &no):
		b.o.Log.Info("a job file is refused", "file", name, "person", person, "why", no.Lines[0])
		return b.put(path, refused, name, ".reason.txt", []byte(no.Error()+"\n"))
	case err != nil:
		return fmt.Errorf("submitting %s: %w", name, err)
	}
	receipt, err := json.MarshalIndent(receipts, "", "  ")
	if err != nil {
		return fmt.Errorf("writing the receipt of %s: %w", name, err)
	}
	b.o.Log.Info("a job file is taken", "file", name, "person", person, "runs", len(receipts))
	return b.put(path, taken, name, ".receipt.json", append(receipt, '\n'))
}

// Bounds of names, in bytes.
const (
	mostName    = 255 // that systems take
	mostClaimed = 150 // of a file that was claimed, beside its key and its person
)

// short returns a name that has at most so many bytes, with its ending.
func short(name string, most int) string {
	ending := filepath.Ext(name)
	if len(name) <= most || len(ending) > most {
		return name[:min(len(name), most)]
	}
	return strings.ToValidUTF8(name[:most-len(ending)], "") + ending
}

// put moves a file into a folder, with a note beside it. Where one of that name lies there
// already, both get a number.
func (b *Inbox) put(path, folder, name, ending string, note []byte) error {
	for n := 1; ; n++ {
		as := name
		if n > 1 {
			as = fmt.Sprintf("%s-%d%s", strings.TrimSuffix(name, filepath.Ext(name)), n, filepath.Ext(name))
		}
		beside := filepath.Join(b.o.Folder, folder, as+ending)
		out, err := os.OpenFile(beside, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
		if errors.Is(err, fs.ErrExist) {
			continue
		}
		if err != nil {
			return fmt.Errorf("writing %s: %w", beside, err)
		}
		_, err = out.Write(note)
		if err := errors.Join(err, out.Close()); err != nil {
			os.Remove(beside)
			return fmt.Errorf("writing %s: %w", beside, err)
		}
		err = os.Rename(path, filepath.Join(b.o.Folder, folder, as))
		if errors.Is(err, fs.ErrNotExist) { // another service has put it there, with a note of its own
			return os.Remove(beside)
		}
		return err
	}
}
