package system

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"vexillum/internal/wire"
)

// TestFramesAreSentByANodeWithoutThePlace renders on a node that sends its
// frames, through a service that is killed and started again on the way, and
// fetches them to where an artist is.
func TestFramesAreSentByANodeWithoutThePlace(t *testing.T) {
	t.Parallel()
	f := newFarm(t)
	f.signIn()
	f.scene("salt.practice", "practice: 1\npicture: salt\ncost: 200ms\n")
	f.join("kiln-01", "--renderers", "practice", "--upload")
	id := f.submit(wire.Submit{Job: "salt", Scene: "salt.practice", Frames: "1-20", Width: 640, Height: 360})
	here := filepath.Join(f.dir, "desk")
	fetched := start(t, "fetch", "--service", "http://"+f.listen, "--token", f.token(), "fetch", "salt", "--to", here)
	f.done(id, 4)
	f.service.end(syscall.SIGKILL)
	f.serve()
	run := f.wantDone(id, 1, 20, "salt")
	<-fetched.gone
	if code := fetched.cmd.ProcessState.ExitCode(); code != 0 ||
		!strings.Contains(fetched.out.String(), "copied       20 frames") {
		t.Errorf("fetch ended with %d: %s", code, fetched.out)
	}
	for _, name := range frameNames("salt", 1, 20) {
		a, err1 := os.ReadFile(filepath.Join(here, name))
		b, err2 := os.ReadFile(filepath.Join(f.dir, "frames", run.Output, name))
		if err1 != nil || err2 != nil || !bytes.Equal(a, b) {
			t.Errorf("%s is not the same here and there: %v %v", name, err1, err2)
		}
	}

	// What is here is not fetched again, and what is not a frame is not replaced.
	if out, stderr, code := f.vexillum("fetch", "salt", "--to", here); code != 0 ||
		!strings.Contains(out, "here before  20") {
		t.Errorf("fetching again: %s%s", out, stderr)
	}
	note := filepath.Join(here, "salt.0003.png")
	if err := os.WriteFile(note, []byte("my own"), 0o644); err != nil {
		t.Fatal(err)
	}
	if out, stderr, code := f.vexillum("fetch", "salt", "--to", here); code == 0 ||
		!strings.Contains(stderr, "is not the frame") {
		t.Errorf("fetching over another file: %s%s", out, stderr)
	}
	if data, _ := os.ReadFile(note); string(data) != "my own" {
		t.Error("a file of the artist was replaced")
	}
	if err := os.Remove(note); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(
		filepath.Join(f.dir, "frames", run.Output, "salt.0003.png"), []byte("changed"), 0o644,
	); err != nil {
		t.Fatal(err)
	}
	if out, stderr, code := f.vexillum("fetch", "salt", "--to", here); code == 0 ||
		!strings.Contains(stderr, "wrong hash") {
		t.Errorf("fetching a file that was changed: %s%s", out, stderr)
	}
	names, _ := os.ReadDir(here)
	if len(names) != 19 {
		t.Errorf("%d files are here", len(names))
	}
}

// token returns an access token for the command line.
func (f *farm) token() string {
	f.t.Helper()
	_, me, err := mustClient(f.t, "http://"+f.listen).SignIn(f.t.Context(), "admin", password, "test")
	if err != nil {
		f.t.Fatal(err)
	}
	return me.Token
}

// TestAPlaceThatGoesAwayIsWaitedFor takes the frame place away while frames
// arrive. Nothing is rendered twice and nothing is parked.
func TestAPlaceThatGoesAwayIsWaitedFor(t *testing.T) {
	t.Parallel()
	f := newFarm(t)
	f.scene("salt.practice", "practice: 1\npicture: salt\ncost: 150ms\n")
	f.join("kiln-01", "--renderers", "practice")
	f.join("kiln-02", "--renderers", "practice", "--upload")
	id := f.submit(wire.Submit{Job: "salt", Scene: "salt.practice", Frames: "1-40"})
	f.done(id, 4)
	place := filepath.Join(f.dir, "frames")
	if err := os.Rename(place, place+".away"); err != nil {
		t.Fatal(err)
	}
	f.wait("the wrangler is told", func() bool {
		var v wire.Farm
		_ = f.admin.Do(t.Context(), http.MethodGet, "/api/v1/farm", nil, &v)
		return slices.ContainsFunc(
			v.Hands,
			func(h wire.NeedHand) bool { return h.Kind == "delivery" && strings.Contains(h.Evidence, "place") },
		)
	})
	f.signIn()
	f.wait("why says that a frame cannot be delivered", func() bool {
		frame, _, _ := strings.Cut(f.run(id).Sets.Delivering, "-")
		frame, _, _ = strings.Cut(frame, ",")
		if frame == "" {
			return false
		}
		out := f.must("why", "salt", "--frame", frame)
		return strings.Contains(out, "is delivering it") && strings.Contains(out, "cannot deliver")
	})
	time.Sleep(2 * time.Second)
	if err := os.Rename(place+".away", place); err != nil {
		t.Fatal(err)
	}
	run := f.ended(id)
	if run.State != "done" {
		t.Fatalf("the run is %s: %s", run.State, run.Why)
	}
	f.wantFiles(run, frameNames("salt", 1, 40))
	f.wantOnce(id, 40)
	if n := f.count(`SELECT count(*) FROM event WHERE kind IN ('delivery lost', 'frame failed')`); n != 0 {
		t.Errorf("%d frames were lost", n)
	}
}

// TestUploadsThatAreNotAccepted sends what the service has not asked for.
func TestUploadsThatAreNotAccepted(t *testing.T) {
	t.Parallel()
	f := newFarm(t)
	f.scene("salt.practice", "practice: 1\npicture: salt\n")
	// A node of our own making: it speaks the protocol and renders nothing.
	c := mustClient(t, "http://"+f.listen)
	var enrolled wire.Enrolled
	facts := wire.Facts{OS: "linux", Speed: 1, Renderers: []wire.Renderer{{Recipe: "practice"}}}
	call := func(method, path string, in, out any) error { return c.Do(t.Context(), method, path, in, out) }
	if err := call(
		"POST", "/node/v1/enrol", wire.Enrol{Key: f.key(), Name: "kiln-09", Kind: "rack", Facts: facts}, &enrolled,
	); err != nil {
		t.Fatal(err)
	}
	c = c.WithToken(enrolled.Token)
	var started wire.Started
	if err := call("POST", "/node/v1/start", wire.Start{Facts: facts}, &started); err != nil {
		t.Fatal(err)
	}
	id := f.submit(wire.Submit{Job: "salt", Scene: "salt.practice", Frames: "1-3"})
	var answer wire.Answer
	if err := call(
		"POST", "/node/v1/ask", wire.Ask{Session: started.Session, Number: 1, Seconds: 5}, &answer,
	); err != nil ||
		len(answer.Leases) == 0 {
		t.Fatalf("%+v, %v", answer, err)
	}
	file := []byte("a picture, as far as the service can tell")
	sum := sha256.Sum256(file)
	hash := hex.EncodeToString(sum[:])
	send := func(frame int, hash string, data []byte) (at wire.Uploaded, err error) {
		path := fmt.Sprintf("/node/v1/leases/%d/frames/%d/file?hash=%s", answer.Leases[0].ID, frame, hash)
		err = c.Send(t.Context(), http.MethodPut, path, "application/octet-stream", data, &at)
		return at, err
	}
	if _, err := send(1, hash, file); err == nil || !strings.Contains(err.Error(), "report it good first") {
		t.Errorf("a frame that nobody accepted: %v", err)
	}
	var reported wire.Reported
	good := wire.ReportItem{
		Outcome: wire.OutcomeGood, Lease: answer.Leases[0].ID, Launch: 1, Frame: 1, Hash: hash,
		Bytes: int64(len(file)),
	}
	if err := call(
		"POST", "/node/v1/report", wire.Report{Session: started.Session, Items: []wire.ReportItem{good}}, &reported,
	); err != nil {
		t.Fatal(err)
	}
	if _, err := send(1, strings.Repeat("0", 64), file); err == nil {
		t.Error("a frame with another hash than accepted was taken")
	}
	wrong := bytes.Repeat([]byte("x"), len(file))
	if _, err := send(1, hash, wrong); err == nil || !strings.Contains(err.Error(), "not the accepted file") {
		t.Errorf("a file with another hash: %v", err)
	}
	if n := f.count(`SELECT count(*) FROM audit WHERE action = 'refuse upload' AND actor = 'kiln-09'`); n != 1 {
		t.Errorf("%d refusals are on record", n)
	}
	if at, err := send(1, hash, file[:10]); err != nil || at.Have != 10 {
		t.Errorf("the first piece: %+v, %v", at, err)
	}
	if at, err := send(1, hash, file); err != nil || at.Have != 10 {
		t.Errorf("a piece that does not follow: %+v, %v", at, err)
	}
	run := f.run(id)
	if names := f.files(run); slices.Contains(names, "salt.0001.png") {
		t.Error("half a frame stands in its place")
	}
	path := fmt.Sprintf("/node/v1/leases/%d/frames/1/file?hash=%s&offset=10", answer.Leases[0].ID, hash)
	var at wire.Uploaded
	if err := c.Send(
		t.Context(), http.MethodPut, path, "application/octet-stream", file[10:], &at,
	); err != nil || at.Standing == nil ||
		at.Standing.Hash != hash {
		t.Errorf("the last piece: %+v, %v", at, err)
	}
	f.wantFiles(run, []string{"salt.0001.png"})
}
