package main

import (
	"bytes"
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/hex"
	"fmt"
	"image"
	"image/png"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"

	_ "github.com/jackc/pgx/v5/stdlib" // the tables are read as anybody could
)

// check reads files and tables and knows nothing of how the service or a node
// works: every frame of every run is there once, whole, with the right pixels;
// everything that was acknowledged is on record; nothing was published that
// was not accepted; nothing is left open.
func (f *farm) check(ctx context.Context, runs []submitted, met map[string]int) error {
	db, err := sql.Open("pgx", f.url)
	if err != nil {
		return err
	}
	defer db.Close()
	var wrong []string
	note := func(format string, args ...any) { wrong = append(wrong, fmt.Sprintf(format, args...)) }
	count := func(query string, args ...any) (n int) {
		if err := db.QueryRowContext(ctx, query, args...).Scan(&n); err != nil {
			note("reading the tables: %v", err)
		}
		return n
	}
	for _, s := range runs {
		if s.means == alwaysWrong {
			checkWrong(count, s, note, met)
			continue
		}
		checkRun(count, s, note, met)
		if err := f.checkFiles(ctx, db, s, note, met); err != nil {
			return err
		}
	}
	checkLog(count, note, met)
	if err := f.checkTold(ctx, runs, count, note, met); err != nil {
		note("%v", err)
	}
	met["take-overs, in all"] = count(`SELECT count(*) FROM audit WHERE action = 'take over'`)
	if len(wrong) > 0 {
		return fmt.Errorf("%s", strings.Join(wrong, "\n  "))
	}
	return nil
}

// checkRun looks what the tables say of a run that has ended.
func checkRun(count func(query string, args ...any) int, s submitted, note func(string, ...any), met map[string]int) {
	state := map[meant]string{allWell: "done", oneGap: "done with gaps"}[s.means]
	for _, c := range []struct {
		what, query string
		want        int
	}{
		{"runs of that name that are done", `SELECT count(*) FROM run WHERE id = $1 AND state = '` + state + `'`, 1},
		{"frames done", `SELECT count(*) FROM frame WHERE run = $1 AND state = 'done'`, s.rendered()},
		{"frames that are not done", `SELECT count(*) FROM frame WHERE run = $1 AND state <> 'done'`, 0},
		{
			"times that a frame was done", `SELECT count(*) FROM event WHERE run = $1 AND kind = 'frame done'`, s.rendered(),
		},
		{"frames in the done set", `SELECT COALESCE(sum(upper(r) - lower(r)), 0) FROM run, unnest(done) r
			WHERE id = $1`, s.rendered()},
		{"open leases", `SELECT count(*) FROM lease WHERE run = $1 AND ended_at IS NULL`, 0},
		{"audits of the submit", `SELECT count(*) FROM audit a JOIN event e USING (seq)
			WHERE e.run = $1 AND a.action = 'submit run'`, 1},
		{"frames published without acceptance", `SELECT count(*) FROM event d
			WHERE d.run = $1 AND d.kind = 'frame done' AND NOT EXISTS (
			SELECT 1 FROM event a WHERE a.run = d.run AND a.kind = 'frame accepted' AND a.seq < d.seq
			AND a.body->>'frame' = d.body->>'frame' AND a.body->>'hash' = d.body->>'hash')`, 0},
		{"frames accepted twice at once", `SELECT count(*) FROM (
			SELECT kind, lag(kind) OVER (PARTITION BY body->>'frame' ORDER BY seq) AS before FROM event
			WHERE run = $1 AND kind IN ('frame accepted', 'delivery lost', 'frame done')) e
			WHERE kind = 'frame accepted' AND before = 'frame accepted'`, 0},
	} {
		if got := count(c.query, s.id); got != c.want {
			note("%s: %s: %d, want %d", s.job, c.what, got, c.want)
		}
	}
	met["tries that failed"] += count(`SELECT count(*) FROM attempt WHERE run = $1`, s.id)
	met["deliveries lost and made good"] += count(
		`SELECT count(*) FROM event WHERE run = $1 AND kind = 'delivery lost'`,
		s.id,
	)
	met["leases"] += count(`SELECT count(*) FROM lease WHERE run = $1`, s.id)
	met["trims"] += count(`SELECT count(*) FROM event WHERE run = $1 AND kind = 'lease trimmed'`, s.id)
}

// checkLog looks whether the log of changes is whole, and what needs a hand is told once.
func checkLog(count func(query string, args ...any) int, note func(string, ...any), met map[string]int) {
	if got := count(
		`SELECT count(*) FROM (SELECT seq - lag(seq, 1, 0::bigint) OVER (ORDER BY seq) AS step FROM event) e WHERE step <> 1`,
	); got != 0 {
		note("%d gaps in the numbers of events", got)
	}
	if got := count(`SELECT (SELECT seq FROM leader) - (SELECT COALESCE(max(seq), 0) FROM event)`); got != 0 {
		note("the leader's number is %d beside the last event's", got)
	}
	if got := count(
		`SELECT count(*) FROM (SELECT of FROM hand WHERE ended_at IS NULL GROUP BY of HAVING count(*) > 1) twice`,
	); got != 0 {
		note("%d things need a hand twice", got)
	}
	met["things that needed a hand, in all"] = count(`SELECT count(*) FROM hand`)
}

// checkFiles compares the files of a run with the tables and with what the
// renderer draws when nobody disturbs it.
func (f *farm) checkFiles(
	ctx context.Context, db *sql.DB, s submitted, note func(string, ...any), met map[string]int,
) error {
	var output string
	if err := db.QueryRowContext(ctx, `SELECT spec->>'output' FROM run WHERE id = $1`, s.id).Scan(&output); err != nil {
		return fmt.Errorf("reading where %s writes: %w", s.job, err)
	}
	hashes := map[int]string{}
	rows, err := db.QueryContext(ctx, `SELECT frame, hash FROM frame WHERE run = $1`, s.id)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var frame int
		var hash string
		if err := rows.Scan(&frame, &hash); err != nil {
			return err
		}
		hashes[frame] = hash
	}
	if err := rows.Err(); err != nil {
		return err
	}
	right, err := f.drawAgain(ctx, s)
	if err != nil {
		return err
	}
	defer os.RemoveAll(right)
	folder := filepath.Join(f.dir, "frames", filepath.FromSlash(output))
	var want []string
	for i := range s.count {
		frame := s.first + i*s.step
		if s.means == oneGap && frame == s.gap {
			continue
		}
		var lines, stamps []string
		for _, pass := range append([]string{""}, s.passes...) {
			name := fmt.Sprintf("%s.%04d.png", strings.Trim(s.job+"."+pass, "."), frame)
			drawn := fmt.Sprintf("frame.%d.png", frame)
			if pass != "" {
				name, drawn = pass+"/"+name, fmt.Sprintf("%s.%d.png", pass, frame)
			}
			want = append(want, name)
			data, err := os.ReadFile(filepath.Join(folder, name))
			if err != nil {
				note("%s: %v", s.job, err)
				continue
			}
			sum := sha256.Sum256(data)
			lines = append(lines, pass+" "+hex.EncodeToString(sum[:])+"\n")
			if _, after, ok := bytes.Cut(data, []byte("tEXtComment\x00")); ok && len(after) > 40 {
				stamps = append(stamps, string(after[:40]))
			}
			if err := samePixels(filepath.Join(folder, name), filepath.Join(right, drawn)); err != nil {
				note("%s: %v", name, err)
			}
		}
		got := strings.TrimSpace(strings.Join(lines, ""))
		if len(s.passes) > 0 {
			sum := sha256.Sum256([]byte(strings.Join(lines, "")))
			got = hex.EncodeToString(sum[:])
			slices.Sort(stamps)
			if len(stamps) != 1+len(s.passes) || len(slices.Compact(stamps)) != 1 {
				note("%s, frame %d: its files are of several renderings", s.job, frame)
			}
			met["frames with passes"]++
		}
		if got != hashes[frame] {
			note("%s, frame %d: the files have the hash %.12s, the table says %.12s", s.job, frame, got, hashes[frame])
		}
	}
	found, err := filesIn(folder, met)
	if err != nil {
		return fmt.Errorf("reading the output of %s: %w", s.job, err)
	}
	slices.Sort(want)
	if !slices.Equal(found, want) {
		note("%s: files %v, want %v", s.job, found, want)
	}
	return nil
}

// filesIn returns the frame files of a folder, and counts what else lies there.
func filesIn(folder string, met map[string]int) (found []string, err error) {
	err = filepath.WalkDir(folder, func(path string, entry os.DirEntry, err error) error {
		if err != nil || entry.IsDir() {
			return err
		}
		name, err := filepath.Rel(folder, path)
		switch {
		case strings.HasSuffix(name, ".part"):
			met["parts left behind"]++
		case strings.HasSuffix(name, ".passes"):
			met["deeds left behind"]++
		default:
			found = append(found, filepath.ToSlash(name))
		}
		return err
	})
	slices.Sort(found)
	return found, err
}

// drawAgain lets the renderer draw all frames of a scene, as a person would by
// hand, and returns the folder with its files.
func (f *farm) drawAgain(ctx context.Context, s submitted) (string, error) {
	dir, err := os.MkdirTemp("", "vexillum-right-")
	if err != nil {
		return "", err
	}
	cmd := exec.CommandContext(
		ctx, f.binary, "practice", "--scene", filepath.Join(f.dir, "scenes", s.scene), "--staging", dir, "--first",
		fmt.Sprint(s.first), "--last", fmt.Sprint(s.last()), "--width", fmt.Sprint(s.width), "--height",
		fmt.Sprint(s.height), "--speed", "1000000", "--node", "by-hand", "--passes", strings.Join(s.passes, ","),
	)
	if out, err := cmd.CombinedOutput(); err != nil {
		return "", fmt.Errorf("drawing %s again: %w: %s", s.job, err, out)
	}
	return dir, nil
}

func decode(name string) (image.Image, error) {
	file, err := os.Open(name)
	if err != nil {
		return nil, err
	}
	defer file.Close()
	return png.Decode(file)
}

func samePixels(a, b string) error {
	got, err := decode(a)
	if err != nil {
		return err
	}
	want, err := decode(b)
	if err != nil {
		return err
	}
	if got.Bounds() != want.Bounds() {
		return fmt.Errorf("it is %v, want %v", got.Bounds(), want.Bounds())
	}
	for y := got.Bounds().Min.Y; y < got.Bounds().Max.Y; y++ {
		for x := got.Bounds().Min.X; x < got.Bounds().Max.X; x++ {
			r1, g1, b1, a1 := got.At(x, y).RGBA()
			r2, g2, b2, a2 := want.At(x, y).RGBA()
			if r1 != r2 || g1 != g2 || b1 != b2 || a1 != a2 {
				return fmt.Errorf("the pixel at %d,%d differs", x, y)
			}
		}
	}
	return nil
}
