//go:build unix

package plainfile

import (
	"errors"
	"io/fs"
	"net"
	"os"
	"path/filepath"
	"syscall"
	"testing"
	"time"
)

func TestOnlyRegularFilesAreOpened(t *testing.T) {
	dir := t.TempDir()
	at := func(name string) string { return filepath.Join(dir, name) }
	must := func(err error) {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
	}
	must(os.WriteFile(at("file"), []byte("frame"), 0o644))
	must(os.Symlink("file", at("link")))
	must(os.Symlink("/dev/zero", at("zero")))
	must(syscall.Mkfifo(at("pipe"), 0o644))
	must(os.Symlink("pipe", at("link-to-pipe")))
	must(os.Mkdir(at("folder"), 0o755))
	listener, err := net.Listen("unix", at("socket"))
	must(err)
	defer listener.Close()
	root, err := os.OpenRoot(dir)
	must(err)
	defer root.Close()

	for name, want := range map[string]error{
		"file": nil, "link": nil, "zero": ErrNotRegular, "pipe": ErrNotRegular, "link-to-pipe": ErrNotRegular,
		"folder": ErrNotRegular, "socket": ErrNotRegular, "nothing": fs.ErrNotExist,
	} {
		t.Run(name, func(t *testing.T) {
			done := make(chan error, 2)
			go func() {
				_, err := Read(at(name), 10)
				done <- err
				file, err := OpenIn(root, name)
				if err == nil {
					_ = file.Close()
				}
				if name == "zero" && err != nil { // a link out of the root is refused as such
					err = ErrNotRegular
				}
				done <- err
			}()
			for _, how := range []string{"by path", "inside the root"} {
				select {
				case err := <-done:
					if !errors.Is(err, want) {
						t.Errorf("%s: %v, want %v", how, err, want)
					}
				case <-time.After(5 * time.Second):
					t.Fatalf("%s: it waits", how)
				}
			}
		})
	}
	if _, err := Read(at("file"), 4); !errors.Is(err, ErrTooLarge) {
		t.Errorf("five bytes where four may be read: %v", err)
	}
}
