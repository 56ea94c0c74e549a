package node

import (
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"vexillum/internal/core/triage"
	"vexillum/internal/recipe"
)

// unseen fails the frames of the launch that the renderer, ending well, has
// neither begun nor left a file of.
func (l *launch) unseen(words string) (reached int) {
	times := map[int]time.Duration{}
	if len(l.rendered) == 0 {
		times = l.timesOfFiles()
	}
	for f := range l.set.All() {
		if l.rendered[f] || l.w.diary.gave(f) {
			continue
		}
		path, ok := l.file(f)
		switch {
		case l.spoiled != "": // it said so of no frame by name
			l.spoil(f)
		case ok:
			l.check(f, path, l.tookOf(f, times))
		default:
			l.w.failed(
				l.number, f, triage.CauseNoFrame,
				"the renderer ended without an error and without beginning this frame\n"+words,
			)
		}
	}
	return l.stretch.Last
}

// tookOf returns what a frame took that no line has told of: as the renderer says of
// the only one of its launch, else by the times of files.
func (l *launch) tookOf(frame int, times map[int]time.Duration) time.Duration {
	took := times[frame]
	if l.seconds > 0 && l.set.Len() == 1 {
		said := time.Duration(l.seconds * float64(time.Second))
		l.startup = max(0, took+l.startup-said)
		return said
	}
	return took
}

// timesOfFiles returns what frames took of a launch that does not tell when they
// begin, by the times at which their files were last written. The first has the
// start-up in its time: that is what goes beyond the usual.
func (l *launch) timesOfFiles() map[int]time.Duration {
	type written struct {
		frame int
		at    time.Time
	}
	var files []written
	for f := range l.set.All() {
		path, ok := l.file(f)
		if !ok {
			continue
		}
		if info, err := os.Stat(path); err == nil && info.Mode().IsRegular() {
			files = append(files, written{f, info.ModTime()})
		}
	}
	if len(files) == 0 {
		return nil
	}
	slices.SortStableFunc(files, func(a, b written) int { return a.at.Compare(b.at) })
	out := map[int]time.Duration{}
	var others []time.Duration
	for i := 1; i < len(files); i++ {
		took := max(0, files[i].at.Sub(files[i-1].at))
		out[files[i].frame] = took
		others = append(others, took)
	}
	first := max(0, files[0].at.Sub(l.began))
	if len(others) > 0 {
		slices.Sort(others)
		usual := min(first, others[len(others)/2])
		l.startup, first = first-usual, usual
	}
	out[files[0].frame] = first
	return out
}

// file finds the picture of a frame in staging.
func (l *launch) file(frame int) (string, bool) {
	r := &l.w.lease.Recipe
	return l.w.fileOf(l.folder, r.FrameFile, r.FrameName, frame, l.offset, frame == l.stretch.First)
}

// fileOf finds a file of a frame by its recipe's pattern or name.
func (w *work) fileOf(folder, pattern, name string, frame, offset int, first bool) (path string, found bool) {
	if name == "" {
		return matchingFile(folder, pattern, frame+offset, first)
	}
	with := w.settings()
	with["frame"], with["own_frame"] = strconv.Itoa(w.realFrame(frame)), strconv.Itoa(frame+offset)
	name = filepath.FromSlash(recipe.Fill(recipe.Fill(name, with), with)) // a job may choose a name that has some, too
	if !filepath.IsLocal(name) {
		return "", false
	}
	path = filepath.Join(folder, name)
	_, err := os.Lstat(path)
	return path, err == nil
}

// Bounds of the folders that a renderer makes below its own.
const (
	mostDeep  = 8
	mostFiles = 1 << 20
)

// matchingFile finds a file of a frame by its recipe's pattern and the renderer's number
// of it. A file without a number may be that of the first frame of a launch.
// A pattern with a slash is one of paths in the folder.
func matchingFile(folder, pattern string, number int, first bool) (path string, found bool) {
	names := regexp.MustCompile(pattern)
	is := func(name string) bool {
		m := names.FindStringSubmatch(name)
		if m == nil {
			return false
		}
		n, err := strconv.Atoi(m[1])
		return err == nil && n == number || m[1] == "" && first
	}
	if !strings.Contains(pattern, "/") {
		entries, err := os.ReadDir(folder)
		if err != nil {
			return "", false
		}
		i := slices.IndexFunc(entries, func(e os.DirEntry) bool { return is(e.Name()) })
		if i < 0 {
			return "", false
		}
		return filepath.Join(folder, entries[i].Name()), true
	}
	seen := 0
	err := filepath.WalkDir(folder, func(at string, entry os.DirEntry, err error) error {
		inside, outside := filepath.Rel(folder, at)
		switch seen++; {
		case err != nil || outside != nil:
			return err
		case seen > mostFiles:
			return filepath.SkipAll
		case entry.IsDir() && strings.Count(filepath.ToSlash(inside), "/") >= mostDeep:
			return filepath.SkipDir
		case !entry.IsDir() && is(filepath.ToSlash(inside)):
			path, found = at, true
			return filepath.SkipAll
		}
		return nil
	})
	return path, found && err == nil
}
