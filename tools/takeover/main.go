// Takeover takes the pictures of a take-over for docs/screenshots: two
// services share a database, one of them is killed while a browser watches
// through the other. Usage: takeover VEXILLUM DURING.png AFTER.png
package main

import (
	"context"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"time"

	"github.com/chromedp/chromedp"

	"vexillum/internal/client"
	"vexillum/internal/localpg"
	"vexillum/internal/testkit/browser"
	"vexillum/internal/wire"
)

const (
	kestrel  = "127.0.0.1:7431"
	merlin   = "127.0.0.1:7432"
	password = "kestrel-over-the-flats"
)

func main() {
	if len(os.Args) != 4 {
		fmt.Fprintln(os.Stderr, "usage: takeover VEXILLUM DURING.png AFTER.png")
		os.Exit(2)
	}
	if err := run(os.Args[1], os.Args[2], os.Args[3]); err != nil {
		fmt.Fprintln(os.Stderr, "takeover:", err)
		os.Exit(1)
	}
}

// stage is the farm in front of the camera.
type stage struct {
	dir, binary string
	programs    []*exec.Cmd
}

func (s *stage) start(args ...string) (*exec.Cmd, error) {
	cmd := exec.Command(s.binary, args...)
	if err := cmd.Start(); err != nil {
		return nil, fmt.Errorf("starting vexillum %s: %w", args[0], err)
	}
	s.programs = append(s.programs, cmd)
	return cmd, nil
}

func (s *stage) end() {
	for i := len(s.programs) - 1; i >= 0; i-- {
		_ = s.programs[i].Process.Signal(os.Interrupt)
		_ = s.programs[i].Wait()
	}
}

func run(binary, during, after string) error {
	binary, err := filepath.Abs(binary)
	if err != nil {
		return err
	}
	dir, err := os.MkdirTemp("", "vexillum-takeover-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	if err := os.Chmod(dir, 0o755); err != nil { // the database's account has to enter it
		return err
	}
	ctx, cancel := context.WithTimeout(context.Background(), 2*time.Minute)
	defer cancel()
	db, err := localpg.Start(
		ctx,
		localpg.Options{
			Dir: filepath.Join(dir, "database"), Log: slog.New(slog.NewTextHandler(io.Discard, nil)), Fast: true,
		},
	)
	if err != nil {
		return err
	}
	defer func() { _ = db.Stop() }()
	s := &stage{dir: dir, binary: binary}
	defer s.end()
	first, err := s.furnish(ctx, db.URL())
	if err != nil {
		return err
	}
	ctx, stop, err := browser.Start(ctx, dir)
	if err != nil {
		return err
	}
	defer stop()
	if err := chromedp.Run(ctx,
		chromedp.EmulateViewport(browser.Width, browser.Height),
		chromedp.Navigate("http://"+merlin), // the one that stands by
		chromedp.WaitVisible(`input[name=name]`),
		chromedp.SendKeys(`input[name=name]`, "admin"), chromedp.SendKeys(`input[name=password]`, password+"\n"),
		chromedp.WaitVisible(`nav`), chromedp.Sleep(3*time.Second)); err != nil {
		return fmt.Errorf("signing in: %w", err)
	}
	if err := first.Process.Kill(); err != nil {
		return err
	}
	if err := picture(ctx, `//*[contains(., "The line to the service is lost")]`, during); err != nil {
		return err
	}
	return picture(ctx, `//*[contains(., "keeps the farm going")]`, after)
}

// picture waits for something to be seen and takes a picture a moment later.
func picture(ctx context.Context, seen, file string) error {
	var data []byte
	if err := chromedp.Run(
		ctx, chromedp.WaitVisible(seen, chromedp.BySearch), chromedp.Sleep(400*time.Millisecond),
		chromedp.CaptureScreenshot(&data),
	); err != nil {
		return fmt.Errorf("taking %s: %w", file, err)
	}
	return os.WriteFile(file, data, 0o644)
}

// furnish starts services and nodes, and gives them work. It returns the
// active service.
func (s *stage) furnish(ctx context.Context, url string) (*exec.Cmd, error) {
	word := filepath.Join(s.dir, "password")
	if err := os.WriteFile(word, []byte(password), 0o600); err != nil {
		return nil, err
	}
	first, err := s.start(
		"serve", "--listen", kestrel, "--database", url, "--name", "kestrel", "--admin-password-file", word,
	)
	if err != nil {
		return nil, err
	}
	if err := ready(ctx, kestrel); err != nil {
		return nil, err
	}
	if _, err := s.start("serve", "--listen", merlin, "--database", url, "--name", "merlin"); err != nil {
		return nil, err
	}
	if err := ready(ctx, merlin); err != nil {
		return nil, err
	}
	both, err := client.New(kestrel+","+merlin, "")
	if err != nil {
		return nil, err
	}
	admin, _, err := both.SignIn(ctx, "admin", password, "pictures")
	if err != nil {
		return nil, err
	}
	for _, name := range []string{"scenes", "frames"} {
		path := filepath.Join(s.dir, name)
		if err := os.Mkdir(path, 0o755); err != nil {
			return nil, err
		}
		if err := admin.Do(
			ctx, http.MethodPatch, "/api/v1/places/"+name, wire.PlaceChange{Paths: map[string]string{"linux": path}},
			nil,
		); err != nil {
			return nil, err
		}
	}
	if err := admin.Do(
		ctx, http.MethodPatch, "/api/v1/projects/salt-clock", wire.ProjectChange{Scenes: "scenes", Frames: "frames"},
		nil,
	); err != nil {
		return nil, err
	}
	scene := "practice: 1\npicture: salt\ncost: 1500ms\nnoise: 0.2\n"
	if err := os.WriteFile(filepath.Join(s.dir, "scenes", "salt_010.practice"), []byte(scene), 0o644); err != nil {
		return nil, err
	}
	if err := s.join(ctx, admin); err != nil {
		return nil, err
	}
	for _, job := range []string{"salt_010", "salt_020"} {
		in := wire.Submit{
			Job: job, Project: "salt-clock", Scene: "salt_010.practice", Frames: "1-180", Width: 480,
			Height: 270,
		}
		if err := admin.Do(ctx, http.MethodPost, "/api/v1/runs", in, nil); err != nil {
			return nil, err
		}
	}
	time.Sleep(6 * time.Second)
	return first, nil
}

// join starts six nodes and waits until they are online.
func (s *stage) join(ctx context.Context, admin *client.Client) error {
	var key wire.Key
	if err := admin.Do(ctx, http.MethodPost, "/api/v1/keys", wire.NewKey{Uses: new(6)}, &key); err != nil {
		return err
	}
	for i := range 6 {
		name := fmt.Sprintf("kiln-%02d", i+1)
		if _, err := s.start(
			"join", kestrel, merlin, "--key", key.Key, "--name", name, "--data", filepath.Join(s.dir, name),
			"--renderers", "practice", "--speed", fmt.Sprint(0.6+0.3*float64(i)),
		); err != nil {
			return err
		}
	}
	for online := 0; online < 6 && ctx.Err() == nil; time.Sleep(50 * time.Millisecond) {
		var nodes []wire.Node
		if err := admin.Do(ctx, http.MethodGet, "/api/v1/nodes", nil, &nodes); err != nil {
			return err
		}
		online = 0
		for _, n := range nodes {
			if n.Reach == "online" {
				online++
			}
		}
	}
	return ctx.Err()
}

func ready(ctx context.Context, listen string) error {
	c, err := client.New(listen, "")
	if err != nil {
		return err
	}
	for ctx.Err() == nil {
		if c.Do(ctx, http.MethodGet, "/readyz", nil, &wire.Health{}) == nil {
			return nil
		}
		time.Sleep(50 * time.Millisecond)
	}
	return ctx.Err()
}
