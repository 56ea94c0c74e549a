package api

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"image"
	"image/jpeg"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"vexillum/internal/wire"
)

// atWork starts the node kiln-01, submits a run of a few frames, and returns
// the run, its lease, and the session.
func (w *world) atWork() (run wire.Run, lease wire.Lease, session int64) {
	w.t.Helper()
	if err := os.WriteFile(filepath.Join(w.dir, "scenes", "a.practice"), nil, 0o644); err != nil {
		w.t.Fatal(err)
	}
	var started wire.Started
	w.as(
		aNode, "POST", "/node/v1/start",
		wire.Start{Facts: wire.Facts{OS: "linux", Speed: 1, Renderers: []wire.Renderer{{Recipe: "practice"}}}},
		&started,
	)
	var receipt wire.Receipt
	w.must(
		"POST", "/api/v1/runs", wire.Submit{Job: "job", Project: "salt-clock", Scene: "a.practice", Frames: "1-3"},
		&receipt,
	)
	var answer wire.Answer
	w.as(aNode, "POST", "/node/v1/ask", wire.Ask{Session: started.Session, Number: 1}, &answer)
	if len(answer.Leases) != 1 {
		w.t.Fatal(answer.Why)
	}
	w.must("GET", fmt.Sprintf("/api/v1/runs/%d", receipt.Run), nil, &run)
	return run, answer.Leases[0], started.Session
}

// accepted reports a frame of these bytes good.
func (w *world) accepted(lease wire.Lease, session int64, frame int, data []byte) wire.ReportItem {
	w.t.Helper()
	sum := sha256.Sum256(data)
	item := wire.ReportItem{
		Outcome: wire.OutcomeGood, Lease: lease.ID, Launch: 1, Frame: frame, Hash: hex.EncodeToString(sum[:]),
		Bytes: int64(len(data)), RenderSeconds: 1,
	}
	var out wire.Reported
	w.as(aNode, "POST", "/node/v1/report", wire.Report{Session: session, Items: []wire.ReportItem{item}}, &out)
	if out.Verdicts[0].Verdict != wire.VerdictDeliver {
		w.t.Fatalf("%+v", out)
	}
	return item
}

// TestDeliveredIsBelievedWhereItIsSeen says of a frame that it stands in its
// place before it does, when something else does, and when it does.
func TestDeliveredIsBelievedWhereItIsSeen(t *testing.T) {
	w := newWorld(t)
	run, lease, session := w.atWork()
	data := []byte("a picture")
	item := w.accepted(lease, session, 1, data)
	item.Outcome = wire.OutcomeDelivered
	told := func() wire.Verdict {
		t.Helper()
		var out wire.Reported
		w.as(aNode, "POST", "/node/v1/report", wire.Report{Session: session, Items: []wire.ReportItem{item}}, &out)
		return out.Verdicts[0]
	}
	done := func() string {
		w.must("GET", fmt.Sprintf("/api/v1/runs/%d", run.ID), nil, &run)
		return run.Sets.Done
	}
	folder := filepath.Join(w.dir, "frames", filepath.FromSlash(run.Output))
	file := filepath.Join(folder, "job.0001.png")
	for _, c := range []struct {
		what, says string
		put        func() error
	}{
		{"nothing", "no file", func() error { return os.MkdirAll(folder, 0o755) }},
		{"a folder", "not a regular file", func() error { return os.Mkdir(file, 0o755) }},
		{"half of it", "bytes", func() error { return os.WriteFile(file, data[:4], 0o644) }},
		{"a link", "not a regular file", func() error { return os.Symlink("/etc/passwd", file) }},
	} {
		if err := os.RemoveAll(file); err != nil {
			t.Fatal(err)
		}
		if err := c.put(); err != nil {
			t.Fatal(err)
		}
		if v := told(); v.Verdict != wire.VerdictDeliver || !strings.Contains(v.Why, c.says) {
			t.Errorf("%s stands there: %+v, want to deliver it and %q", c.what, v, c.says)
		}
		if done() != "" {
			t.Fatalf("%s stands there, and the frame is done", c.what)
		}
	}
	if err := os.Remove(file); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(file, data, 0o644); err != nil {
		t.Fatal(err)
	}
	if v := told(); v.Verdict != wire.VerdictNoted || done() != "1" {
		t.Errorf("it stands there: %+v, done %q", v, run.Sets.Done)
	}
}

// TestANodeSpeaksOfItsOwn lets another node write a log of a lease and a
// thumbnail of a frame that are not its own.
func TestANodeSpeaksOfItsOwn(t *testing.T) {
	w := newWorld(t)
	run, lease, session := w.atWork()
	w.accepted(lease, session, 2, []byte("a picture"))
	var key wire.Key
	w.must("POST", "/api/v1/keys", wire.NewKey{Uses: new(1)}, &key)
	var other wire.Enrolled
	w.must("POST", "/node/v1/enrol", wire.Enrol{Key: key.Key, Name: "kiln-02", Kind: "rack"}, &other)
	said := func(token, text string) {
		t.Helper()
		in := wire.Said{
			Session: 1,
			Pieces: []wire.SaidPiece{{
				Lease: lease.ID, Run: 99, Seq: 1,
				Lines: []wire.SaidLine{{At: time.Now().UnixMilli(), Stream: 1, Text: text}},
			}},
		}
		if status, body := w.call(token, "POST", "/node/v1/said", in); status != 204 {
			t.Fatalf("%d %s", status, body)
		}
	}
	said(other.Token, "a lie")
	said(w.tokens[aNode], "the truth")
	var out wire.NodeLog
	w.must("GET", fmt.Sprintf("/api/v1/runs/%d/log", run.ID), nil, &out)
	if len(out.Lines) != 1 || out.Lines[0].Text != "the truth" || out.Lines[0].Run != run.ID {
		t.Errorf("the run's log is %+v", out.Lines)
	}
	var audit []wire.AuditLine
	w.must("GET", "/api/v1/audit?limit=50", nil, &audit)
	if !strings.Contains(fmt.Sprint(audit), "refuse log") {
		t.Error("nobody is told of the lie")
	}

	path := fmt.Sprintf("/node/v1/runs/%d/frames/%%d/thumbnail", run.ID)
	for _, c := range []struct {
		what  string
		token string
		frame int
		sides image.Point
		want  int
	}{
		{"another node's", other.Token, 2, image.Pt(60, 40), 403},
		{"of a frame that nobody rendered", w.tokens[aNode], 3, image.Pt(60, 40), 403},
		{"very wide", w.tokens[aNode], 2, image.Pt(20_000, 8), 422},
		{"very high", w.tokens[aNode], 2, image.Pt(8, 20_000), 422},
		{"its own", w.tokens[aNode], 2, image.Pt(60, 40), 204},
		{"of a frame that does not exist", w.tokens[aNode], 4, image.Pt(60, 40), 404},
	} {
		var data bytes.Buffer
		if err := jpeg.Encode(&data, image.NewGray(image.Rectangle{Max: c.sides}), nil); err != nil {
			t.Fatal(err)
		}
		if status, body := w.call(c.token, "PUT", fmt.Sprintf(path, c.frame), data.String()); status != c.want {
			t.Errorf("a thumbnail that is %s: %d %s", c.what, status, body)
		}
	}
	w.sentOnce(fmt.Sprintf("/api/v1/runs/%d/frames/2/thumbnail", run.ID))
}

// TestAccountsArePermittedByAdministrators sets accounts and groups as a wrangler, before and
// after an administrator has permitted one on a node. Root is never to be had.
func TestAccountsArePermittedByAdministrators(t *testing.T) {
	w := newWorld(t)
	say := func(in wire.LaunchSettingsChange) (int, string) {
		status, body := w.call(w.tokens[wrangler], "PATCH", "/api/v1/launch-settings", in)
		return status, string(body)
	}
	root, film := wire.LaunchSettingsChange{Account: new("root")}, wire.LaunchSettingsChange{Account: new("film")}
	for _, in := range []wire.LaunchSettingsChange{
		root, {Group: new("0")}, {Group: new("wheel")}, {Account: new(`STUDIO\Administrator`)},
	} {
		if status, body := say(in); status != 422 || !strings.Contains(body, "never run as root") {
			t.Errorf("%+v: %d %s", in, status, body)
		}
	}
	for _, in := range []wire.LaunchSettingsChange{
		film, {Account: new("toor")}, {Group: new("shadow")}, {Group: new("disk")}, {Group: new("docker")}, {Group: new("sudo")},
	} {
		if status, body := say(in); status != 403 || !strings.Contains(body, "--permit") {
			t.Errorf("%+v: %d %s", in, status, body)
		}
	}
	for _, name := range []string{"COLOUR_TABLE", "LD_PRELOAD", "PYTHONPATH"} { // nothing that meets them has more rights
		if status, body := say(
			wire.LaunchSettingsChange{Variables: map[string]*string{name: new("/x")}},
		); status != 200 {
			t.Errorf("the variable %s: %d %s", name, status, body)
		}
	}
	permit := wire.NodeChange{Selection: wire.Selection{Nodes: []int64{1}}, Permit: []string{"account=film"}}
	if status, _ := w.call(w.tokens[wrangler], "POST", "/api/v1/node-changes", permit); status != 403 {
		t.Errorf("a wrangler permits it: %d", status)
	}
	w.must("POST", "/api/v1/node-changes", permit, nil)
	never := permit
	never.Permit = []string{"account=root"}
	if status, _ := w.call(w.tokens[admin], "POST", "/api/v1/node-changes", never); status != 422 {
		t.Errorf("an administrator permits root: %d", status)
	}
	if status, body := say(film); status != 200 {
		t.Errorf("after it is permitted: %d %s", status, body)
	}
	if status, _ := say(wire.LaunchSettingsChange{Group: new("shadow")}); status != 403 {
		t.Errorf("an account is permitted, and a group is taken: %d", status)
	}
	w.must("POST", "/api/v1/node-changes", wire.NodeChange{Selection: permit.Selection, Forbid: []string{"account=film"}}, nil)
	run, why := wire.Run{}, wire.Why{}
	if err := os.WriteFile(filepath.Join(w.dir, "scenes", "a.practice"), nil, 0o644); err != nil {
		t.Fatal(err)
	}
	w.as(
		aNode, "POST", "/node/v1/start",
		wire.Start{Facts: wire.Facts{OS: "linux", Speed: 1, Renderers: []wire.Renderer{{Recipe: "practice"}}}},
		&wire.Started{},
	)
	var receipt wire.Receipt
	w.must(
		"POST", "/api/v1/runs", wire.Submit{Job: "job", Project: "salt-clock", Scene: "a.practice", Frames: "1-3"},
		&receipt,
	)
	w.must("GET", fmt.Sprintf("/api/v1/runs/%d", receipt.Run), nil, &run)
	w.must("GET", fmt.Sprintf("/api/v1/runs/%d/why", receipt.Run), nil, &why)
	if run.State != "queued" || !strings.Contains(why.Why, "no administrator has allowed") {
		t.Errorf("a run with what was forbidden since is %s: %s", run.State, why.Why)
	}
}
