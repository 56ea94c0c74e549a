package practice

import (
	"bufio"
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"image"
	"image/png"
	"io"
	"io/fs"
	"math/rand/v2"
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
	Passes  string  // to write beside the picture, with commas between
	Tile    string  // left, top, right, bottom of what is rendered, in pixels; empty: all of the picture
	Camera  string  // of the scene; empty: straight on
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
	if _, err := o.tile(); err != nil {
		return err
	}
	if _, err := scene.Pan(o.Camera); err != nil {
		return err
	}
	for _, p := range o.passes() {
		if _, known := passes[p]; !known {
			return fmt.Errorf("there is no pass %q", p)
		}
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
				return fmt.Errorf("the feed asks for frame %q, which is not a number", rest)
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
	eaten [][]byte // memory that the scene asks for
}

// complaints are what the renderer says of what it cannot do anything about.
var complaints = map[string]string{
	doesMemory:  "cannot allocate 6.1 GiB: out of memory",
	doesLicence: "no licence is free",
	doesFile:    "cannot find textures/brass.png: no such file",
	doesPlugin:  "the plug-in foam is not installed",
	doesDenied:  "cannot read caches/sea.vdb: permission denied",
	doesPlace:   "the place caches cannot be reached",
	doesFull:    "writing the frame: no space left on device",
}

// eat takes as much memory as the scene asks for, a piece at a time, and keeps
// it: a renderer that has too little ends the hard way.
func (l *launch) eat() {
	const piece = 8 << 20
	for have := len(l.eaten) * piece; have < l.scene.memory; have += piece {
		b := make([]byte, min(piece, l.scene.memory-have))
		for i := 0; i < len(b); i += 4096 {
			b[i] = 1 // else the system gives none
		}
		l.eaten = append(l.eaten, b)
	}
}

// broods is how long a frame that broods computes without a word.
const broods = 9 * time.Second

func (l *launch) frame(f int) error {
	fmt.Fprintf(l.out, "vx begin %d\n", f)
	does := l.scene.Does(f, l.Node, time.Now())
	if complaint := complaints[does]; complaint != "" {
		fmt.Fprintln(os.Stderr, complaint)
		return ErrMisbehaved
	}
	switch does {
	case doesHang:
		select {}
	case doesBrood:
		for until := time.Now().Add(broods); time.Now().Before(until); { // on one core
		}
	case doesChild:
		child := exec.Command("sleep", "600")
		if err := child.Start(); err != nil {
			return fmt.Errorf("starting the child: %w", err)
		}
		fmt.Fprintf(l.out, "child %d\n", child.Process.Pid)
	}
	l.eat()
	tile, _ := l.tile() // it was looked at
	part := float64(tile.Dx()*tile.Dy()) / float64(l.Width*l.Height)
	l.wait(time.Duration(part * float64(l.scene.Time(f, l.Node, l.Speed))))
	switch does {
	case doesError:
		fmt.Fprintf(os.Stderr, "error: frame %d cannot be rendered\n", f)
		return ErrMisbehaved
	case doesCrash:
		return crash()
	}
	if does != doesNoFile {
		write := l.write
		if odd[does] != nil {
			write = l.writeOdd
		}
		if err := write(f, does); err != nil {
			return err
		}
	}
	if l.Feed {
		fmt.Fprintf(l.out, "vx done %d\n", f)
	}
	return nil
}

// wait lets the frame's time pass and says how far it is.
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
	stamp := ""
	if l.scene.Stamp {
		stamp = fmt.Sprintf("%d on %s, %016x", f, l.Node, rand.Uint64())
	}
	names := l.passes()
	pan, err := l.scene.Pan(l.Camera)
	if err != nil {
		return err
	}
	bounds := image.Rect(0, 0, width, l.Height)
	if l.Tile != "" {
		bounds, _ = l.tile() // it was looked at
	}
	img, beside := paint(l.scene.Picture, names, f, width, l.Height, bounds, pan)
	if does == doesBlank {
		img = image.NewRGBA(img.Bounds())
	}
	if err := l.save("frame", f, img, stamp, does == doesCut); err != nil {
		return err
	}
	for i, p := range names {
		if does == doesNoPass && i == len(names)-1 {
			continue
		}
		if err := l.save(p, f, beside[i], stamp, false); err != nil {
			return err
		}
	}
	return nil
}

// odd are files that are no pictures to open without care.
var odd = map[string]func(name string) error{
	doesLink: func(name string) error { return os.Symlink("/dev/zero", name) },
	doesPipe: makePipe,
	doesHuge: func(name string) error {
		header := []byte{0, 0, 0, 13, 'I', 'H', 'D', 'R', 0, 0, 0xc3, 0x50, 0, 0, 0xc3, 0x50, 8, 6, 0, 0, 0}
		data := append([]byte("\x89PNG\r\n\x1a\n"), header...)
		return os.WriteFile(name, binary.BigEndian.AppendUint32(data, crc32.ChecksumIEEE(header[4:])), 0o666)
	},
}

// writeOdd leaves a file of this kind.
func (l *launch) writeOdd(f int, does string) error {
	name := filepath.Join(l.Staging, fmt.Sprintf("frame.%d.png", f))
	if err := os.Remove(name); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("making room for frame %d: %w", f, err)
	}
	if err := odd[does](name); err != nil {
		return fmt.Errorf("leaving a %s for frame %d: %w", does, f, err)
	}
	return nil
}

// tile returns what of the picture is rendered.
func (o Options) tile() (image.Rectangle, error) {
	whole := image.Rect(0, 0, o.Width, o.Height)
	if o.Tile == "" {
		return whole, nil
	}
	var r image.Rectangle
	if _, err := fmt.Sscanf(o.Tile, "%d,%d,%d,%d", &r.Min.X, &r.Min.Y, &r.Max.X, &r.Max.Y); err != nil || r.Empty() ||
		!r.In(whole) {
		return r, fmt.Errorf("%q is not a rectangle in the picture", o.Tile)
	}
	return r, nil
}

func (o Options) passes() []string {
	if o.Passes == "" {
		return nil
	}
	return strings.Split(o.Passes, ",")
}

func (l *launch) save(what string, f int, img image.Image, stamp string, cut bool) error {
	var buf bytes.Buffer
	encoder := png.Encoder{CompressionLevel: png.BestSpeed}
	if err := encoder.Encode(&buf, img); err != nil {
		return fmt.Errorf("encoding frame %d: %w", f, err)
	}
	data := buf.Bytes()
	if stamp != "" {
		data = stamped(data, stamp)
	}
	if cut {
		data = data[:len(data)/2]
	}
	if err := os.WriteFile(filepath.Join(l.Staging, fmt.Sprintf("%s.%d.png", what, f)), data, 0o666); err != nil {
		return fmt.Errorf("writing frame %d: %w", f, err)
	}
	return nil
}

// stamped puts a comment into a PNG file, before its last chunk.
func stamped(data []byte, text string) []byte {
	const last = 12 // bytes of an IEND chunk
	body := append([]byte("tEXtComment\x00"), text...)
	chunk := binary.BigEndian.AppendUint32(nil, uint32(len(body)-4))
	chunk = append(chunk, body...)
	chunk = binary.BigEndian.AppendUint32(chunk, crc32.ChecksumIEEE(body))
	end := len(data) - last
	return append(append(append([]byte{}, data[:end]...), chunk...), data[end:]...)
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
