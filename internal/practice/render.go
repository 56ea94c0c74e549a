package practice

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"image/png"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"time"
)

// Version is the practice renderer's own.
const Version = "1.0"

// Options is one launch of the practice renderer.
type Options struct {
	Scene   string
	Staging string // folder in which pictures are written
	Width   int
	Height  int
	Speed   float64 // reference seconds of work per second
	Node    string  // name of the node, for troubles that happen on some alone
	First   int
	Last    int
	Feed    bool // take frames from standard input instead of First to Last
}

// ErrMisbehaved is how a scripted failure ends: the launch exits with 1.
var ErrMisbehaved = errors.New("the scene told this frame to fail")

// Render renders the frames of one launch. Lines for the farm go to out, each
// beginning with "vx "; frames to feed come from in, as docs/feed.md says.
func Render(o Options, in io.Reader, out io.Writer) error {
	scene, err := ReadScene(o.Scene)
	if err != nil {
		return err
	}
	if o.Width < 1 || o.Height < 1 || o.Speed <= 0 {
		return fmt.Errorf("size and speed must be above 0")
	}
	fmt.Fprintf(out, "practice renderer %s, scene %s, speed %g\n", Version, o.Scene, o.Speed)
	time.Sleep(scene.startup)
	l := launch{Options: o, scene: scene, out: out}
	if !o.Feed {
		for f := o.First; f <= o.Last; f++ {
			if err := l.frame(f); err != nil {
				return err
			}
		}
		return nil
	}
	fmt.Fprintln(out, "vx ready")
	lines := bufio.NewScanner(in)
	for lines.Scan() {
		command, rest, _ := strings.Cut(strings.TrimSpace(lines.Text()), " ")
		switch command {
		case "frame":
			f, err := strconv.Atoi(rest)
			if err != nil {
				return fmt.Errorf("the feed asks for frame %q, which is no number", rest)
			}
			if err := l.frame(f); err != nil {
				return err
			}
		case "end":
			return nil
		default:
			return fmt.Errorf("the feed says %q, which is neither frame nor end", lines.Text())
		}
	}
	return lines.Err()
}

type launch struct {
	Options
	scene *Scene
	out   io.Writer
}

func (l *launch) frame(f int) error {
	fmt.Fprintf(l.out, "vx begin %d\n", f)
	does := l.scene.Does(f, l.Node)
	switch does {
	case doesMemory:
		fmt.Fprintln(os.Stderr, "cannot allocate 6.1 GiB: out of memory")
		return ErrMisbehaved
	case doesLicence:
		fmt.Fprintln(os.Stderr, "no licence is free")
		return ErrMisbehaved
	case doesHang:
		select {}
	case doesChild:
		child := exec.Command("sleep", "600")
		if err := child.Start(); err != nil {
			return fmt.Errorf("starting the child: %w", err)
		}
		fmt.Fprintf(l.out, "child %d\n", child.Process.Pid)
	}
	l.wait(l.scene.Time(f, l.Node, l.Speed))
	switch does {
	case doesError:
		fmt.Fprintf(os.Stderr, "error: frame %d cannot be rendered\n", f)
		return ErrMisbehaved
	case doesCrash:
		return crash()
	}
	if does != doesNoFile {
		if err := l.write(f, does); err != nil {
			return err
		}
	}
	if l.Feed {
		fmt.Fprintf(l.out, "vx done %d\n", f)
	}
	return nil
}

// wait lets the frame's time pass and tells how far it is.
func (l *launch) wait(whole time.Duration) {
	const steps = 20
	step := max(whole/steps, 50*time.Millisecond)
	for begin := time.Now(); ; {
		passed := time.Since(begin)
		fmt.Fprintf(l.out, "vx progress %d %d\n", min(passed, whole).Milliseconds(), max(whole.Milliseconds(), 1))
		if passed >= whole {
			return
		}
		time.Sleep(min(step, whole-passed))
	}
}

func (l *launch) write(f int, does string) error {
	width := l.Width
	if does == doesSize {
		width = width/2 + 1
	}
	var buf bytes.Buffer
	encoder := png.Encoder{CompressionLevel: png.BestSpeed}
	if err := encoder.Encode(&buf, Paint(l.scene.Picture, f, width, l.Height)); err != nil {
		return fmt.Errorf("encoding frame %d: %w", f, err)
	}
	data := buf.Bytes()
	if does == doesCut {
		data = data[:len(data)/2]
	}
	if err := os.WriteFile(filepath.Join(l.Staging, fmt.Sprintf("frame.%d.png", f)), data, 0o666); err != nil {
		return fmt.Errorf("writing frame %d: %w", f, err)
	}
	return nil
}

// crash ends this process the hard way.
func crash() error {
	self, err := os.FindProcess(os.Getpid())
	if err != nil {
		return err
	}
	if err := self.Kill(); err != nil {
		return err
	}
	select {}
}
