// Package movie makes movies of frames with ffmpeg, and reads back what became of them. It
// looks at the sequence before, and at the file behind: length, rate, codec and number of
// frames must be what was asked for. It knows nothing of runs and leases.
package movie

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math"
	"math/big"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"
)

// Frame is one picture of a movie.
type Frame struct {
	Number int
	Path   string
}

// Plan is what is to be made.
type Plan struct {
	Frames  []Frame // in order
	FPS     string  // see ParseRate
	Codec   string  // h264, h265, prores or vp9; empty: as suits the ending of Output
	Quality int     // 0 best to 51 worst; below 0: as usual. Not for prores
	Output  string
	Folder  string // for what is needed meanwhile; it must be there
	Gaps    bool   // frames may be missing: those before them are held
}

// WrongError says why a movie cannot be made of what there is, or is not what it should be.
type WrongError struct{ Reason string }

// Error returns the reason.
func (e *WrongError) Error() string { return e.Reason }

func wrong(text string, args ...any) error { return &WrongError{fmt.Sprintf(text, args...)} }

// MostRate is the most frames a second of a movie.
const MostRate = 240

// ParseRate reads a frame rate such as 24, 25 or 23.976. The rates of television that are
// written with three or two decimals are their exact fractions, such as 24000/1001.
func ParseRate(text string) (*big.Rat, error) {
	for _, whole := range []int64{24, 30, 48, 60, 120} {
		exact := big.NewRat(whole*1000, 1001)
		f, _ := exact.Float64()
		for _, digits := range []int{2, 3} {
			if text == strconv.FormatFloat(f, 'f', digits, 64) {
				return exact, nil
			}
		}
	}
	r, ok := new(big.Rat).SetString(text)
	if !ok || strings.ContainsAny(text, "eE_xX") || r.Sign() <= 0 || r.Cmp(big.NewRat(MostRate, 1)) > 0 {
		return nil, wrong("%.40q is not a frame rate: write it like 24, 25 or 23.976, at most %d", text, MostRate)
	}
	if r.Denom().BitLen() > 20 || r.Num().BitLen() > 28 {
		return nil, wrong("%.40q is not a frame rate: it has too many digits", text)
	}
	return r, nil
}

// codecs are the encoders of ffmpeg, with what ffprobe calls their codecs.
var codecs = map[string]struct {
	encoder, told string
	options       []string
}{
	"h264": {"libx264", "h264", []string{"-pix_fmt", "yuv420p", "-preset", "medium", "-movflags", "+faststart"}},
	"h265": {
		"libx265",
		"hevc",
		[]string{"-pix_fmt", "yuv420p", "-tag:v", "hvc1", "-movflags", "+faststart", "-x265-params", "log-level=error"},
	},
	"prores": {"prores_ks", "prores", []string{"-pix_fmt", "yuv422p10le", "-profile:v", "3", "-movflags", "write_colr"}},
	"vp9":    {"libvpx-vp9", "vp9", []string{"-pix_fmt", "yuv420p", "-b:v", "0", "-row-mt", "1"}},
}

// colours turns frames into what a movie holds and says what its numbers mean: without that each player
// guesses, and the same movie looks different in each. Frames are sRGB, whose primaries are those of
// ITU-R BT.709; ProRes has no name for its curve, and players take that of BT.709 for the same.
func colours(codec string) string {
	curve := "iec61966-2-1"
	if codec == "prores" {
		curve = "bt709"
	}
	return "scale=out_color_matrix=bt709:out_range=tv," +
		"setparams=colorspace=bt709:color_primaries=bt709:color_trc=" + curve + ":range=tv"
}

// usual is the codec of a movie by the ending of its file.
var usual = map[string]string{".mp4": "h264", ".mov": "prores", ".webm": "vp9"}

// Codecs returns the names of the codecs that may be asked for.
func Codecs() []string { return []string{"h264", "h265", "prores", "vp9"} }

// check looks at a plan, and returns the rate and the codec.
func (p *Plan) check() (*big.Rat, string, error) {
	rate, err := ParseRate(p.FPS)
	if err != nil {
		return nil, "", err
	}
	codec := p.Codec
	if codec == "" {
		codec = usual[filepath.Ext(p.Output)]
	}
	if _, known := codecs[codec]; !known {
		return nil, "", wrong("%q is not a codec; there is %s", codec, strings.Join(Codecs(), ", "))
	}
	if fits := map[string][]string{
		".mp4": {"h264", "h265"}, ".mov": {"h264", "h265", "prores"}, ".webm": {"vp9"},
	}[filepath.Ext(p.Output)]; !slices.Contains(fits, codec) {
		return nil, "", wrong("a file %s cannot hold %s", filepath.Ext(p.Output), codec)
	}
	if p.Quality > 51 {
		return nil, "", wrong("the quality %d is not one; it goes from 0, the best, to 51", p.Quality)
	}
	if len(p.Frames) == 0 {
		return nil, "", wrong("there is no frame to make a movie of")
	}
	return rate, codec, p.sequence()
}

// sequence looks whether the frames are there, in order and without gaps.
func (p *Plan) sequence() error {
	var gaps, lost []string
	for i, f := range p.Frames {
		if i > 0 && f.Number <= p.Frames[i-1].Number {
			return wrong("frame %d stands behind frame %d", f.Number, p.Frames[i-1].Number)
		}
		if i > 0 && f.Number > p.Frames[i-1].Number+1 {
			gaps = append(gaps, span(p.Frames[i-1].Number+1, f.Number-1))
		}
		if info, err := os.Stat(f.Path); err != nil || !info.Mode().IsRegular() || info.Size() == 0 {
			lost = append(lost, strconv.Itoa(f.Number))
		}
	}
	if len(gaps) > 0 && !p.Gaps {
		return wrong("the sequence has gaps: frames %s are not in it", brief(gaps))
	}
	if len(lost) > 0 {
		return wrong("the files of frames %s are missing or empty", brief(lost))
	}
	return nil
}

func span(first, last int) string {
	if first == last {
		return strconv.Itoa(first)
	}
	return fmt.Sprintf("%d-%d", first, last)
}

func brief(list []string) string {
	const most = 8
	if len(list) > most {
		return strings.Join(list[:most], ", ") + fmt.Sprintf(" and %d more", len(list)-most)
	}
	return strings.Join(list, ", ")
}

// pictures returns the files of a movie in turn; a frame before a gap is held through it.
func (p *Plan) pictures() (out []string) {
	for i, f := range p.Frames {
		times := 1
		if i+1 < len(p.Frames) {
			times = p.Frames[i+1].Number - f.Number
		}
		for range times {
			out = append(out, f.Path)
		}
	}
	return out
}

// Make makes a movie and looks at it. tell hears how many frames are through. The error is
// a *[WrongError] where frames or what was asked for are to blame.
func Make(ctx context.Context, p Plan, tell func(done, of int)) (Facts, error) {
	rate, codec, err := p.check()
	if err != nil {
		return Facts{}, err
	}
	pictures := p.pictures()
	ending := filepath.Ext(pictures[0])
	folder, err := os.MkdirTemp(p.Folder, "sequence-")
	if err != nil {
		return Facts{}, fmt.Errorf("making a folder for the sequence: %w", err)
	}
	defer os.RemoveAll(folder)
	for i, path := range pictures { // ffmpeg numbers from 0 on, whatever frames are called
		if filepath.Ext(path) != ending {
			return Facts{}, wrong("the frames are files of more than one kind: %s and %s", ending, filepath.Ext(path))
		}
		absolute, err := filepath.Abs(path)
		if err == nil {
			err = os.Symlink(absolute, filepath.Join(folder, fmt.Sprintf("%08d%s", i, ending)))
		}
		if err != nil {
			return Facts{}, fmt.Errorf("laying out the sequence: %w", err)
		}
	}
	if err := p.encode(ctx, folder, ending, rate, codec, len(pictures), tell); err != nil {
		return Facts{}, err
	}
	facts, err := Probe(ctx, p.Output)
	if err != nil {
		return Facts{}, err
	}
	return facts, facts.Check(codec, rate, len(pictures))
}

func (p *Plan) encode(
	ctx context.Context, folder, ending string, rate *big.Rat, codec string, count int, tell func(done, of int),
) error {
	c := codecs[codec]
	args := []string{
		"-hide_banner",
		"-nostdin",
		"-loglevel",
		"error",
		"-y",
		"-progress",
		"pipe:1",
		"-framerate",
		rate.RatString(),
	}
	if ending == ".exr" { // light is linear in there
		args = append(args, "-apply_trc", "iec61966_2_1")
	}
	args = append(
		args, "-start_number", "0", "-i", filepath.Join(folder, "%08d"+ending), "-frames:v", strconv.Itoa(count),
		// most codecs want sides that are even
		"-vf", "pad=ceil(iw/2)*2:ceil(ih/2)*2,"+colours(codec), "-c:v", c.encoder,
	)
	args = append(args, c.options...)
	if codec != "prores" && p.Quality >= 0 {
		args = append(args, "-crf", strconv.Itoa(p.Quality))
	}
	cmd := exec.CommandContext(ctx, "ffmpeg", append(args, p.Output)...)
	cmd.WaitDelay = 2 * time.Second
	var said strings.Builder
	cmd.Stderr = &limited{w: &said, left: 8 << 10}
	out, err := cmd.StdoutPipe()
	if err != nil {
		return fmt.Errorf("starting ffmpeg: %w", err)
	}
	if err := cmd.Start(); err != nil {
		return fmt.Errorf("starting ffmpeg: %w", err)
	}
	lines := bufio.NewScanner(out)
	for lines.Scan() {
		if n, ok := strings.CutPrefix(lines.Text(), "frame="); ok && tell != nil {
			if done, err := strconv.Atoi(strings.TrimSpace(n)); err == nil {
				tell(done, count)
			}
		}
	}
	if err := cmd.Wait(); err != nil {
		return fmt.Errorf("ffmpeg: %w: %s", err, strings.TrimSpace(said.String()))
	}
	return nil
}

// limited takes so many bytes and drops the rest.
type limited struct {
	w    io.Writer
	left int
}

func (l *limited) Write(p []byte) (int, error) {
	n := min(len(p), l.left)
	l.left -= n
	if _, err := l.w.Write(p[:n]); err != nil {
		return 0, err
	}
	return len(p), nil
}

// Facts are what a movie is.
type Facts struct {
	Codec         string // as ffprobe calls it
	Width, Height int
	Rate          *big.Rat // frames a second
	Frames        int      // that are in it, counted
	Seconds       float64
	Colours       string // matrix, transfer and primaries, as ffprobe calls them; empty: it does not say
}

// Probe reads a movie from beginning to end, and tells what it is.
func Probe(ctx context.Context, path string) (Facts, error) {
	cmd := exec.CommandContext(
		ctx, "ffprobe", "-v", "error", "-count_packets", "-select_streams", "v:0", "-of", "json", "-show_entries",
		"stream=codec_name,width,height,r_frame_rate,nb_read_packets,color_space,color_transfer,color_primaries"+
			":format=duration", path,
	)
	cmd.WaitDelay = 2 * time.Second
	out, err := cmd.Output()
	var exit *exec.ExitError
	if errors.As(err, &exit) {
		return Facts{}, wrong("the movie cannot be read: %s", strings.TrimSpace(string(exit.Stderr)))
	}
	if err != nil {
		return Facts{}, fmt.Errorf("starting ffprobe: %w", err)
	}
	var told struct {
		Streams []struct {
			Codec  string `json:"codec_name"`
			Width  int    `json:"width"`
			Height int    `json:"height"`
			Rate   string `json:"r_frame_rate"`
			Count  string `json:"nb_read_packets"`
			Matrix string `json:"color_space"`
			Curve  string `json:"color_transfer"`
			Prims  string `json:"color_primaries"`
		} `json:"streams"`
		Format struct {
			Duration string `json:"duration"`
		} `json:"format"`
	}
	if err := json.Unmarshal(out, &told); err != nil {
		return Facts{}, fmt.Errorf("reading what ffprobe says: %w", err)
	}
	if len(told.Streams) == 0 {
		return Facts{}, wrong("the file holds no pictures")
	}
	s := told.Streams[0]
	f := Facts{Codec: s.Codec, Width: s.Width, Height: s.Height}
	f.Colours = strings.TrimSpace(strings.Join([]string{s.Matrix, s.Curve, s.Prims}, " "))
	f.Rate, _ = new(big.Rat).SetString(s.Rate)
	f.Frames, _ = strconv.Atoi(s.Count)
	f.Seconds, _ = strconv.ParseFloat(told.Format.Duration, 64)
	if f.Rate == nil {
		return f, wrong("the movie has no frame rate")
	}
	return f, nil
}

// Check compares a movie with what was asked for.
func (f Facts) Check(codec string, rate *big.Rat, frames int) error {
	length := new(big.Rat).Quo(big.NewRat(int64(frames), 1), rate)
	seconds, _ := length.Float64()
	one, _ := new(big.Rat).Inv(rate).Float64()
	switch {
	case f.Codec != codecs[codec].told:
		return wrong("the movie is of codec %s, and not %s", f.Codec, codec)
	case f.Frames != frames:
		return wrong("the movie has %d frames, and not %d", f.Frames, frames)
	case f.Rate.Cmp(rate) != 0 && math.Abs(ratio(f.Rate, rate)-1) > 1e-4:
		return wrong("the movie has %s frames a second, and not %s", f.Rate.RatString(), rate.RatString())
	case math.Abs(f.Seconds-seconds) > one+0.01: // containers round to a frame
		return wrong("the movie is %.2f s long, and not %.2f s", f.Seconds, seconds)
	}
	return nil
}

func ratio(a, b *big.Rat) float64 {
	r, _ := new(big.Rat).Quo(a, b).Float64()
	return r
}

// Version returns the version of ffmpeg.
func Version(ctx context.Context) (string, error) {
	out, err := exec.CommandContext(ctx, "ffmpeg", "-version").Output()
	if err != nil {
		return "", fmt.Errorf("starting ffmpeg: %w", err)
	}
	var version string
	if _, err := fmt.Sscanf(string(out), "ffmpeg version %s", &version); err != nil {
		return "", fmt.Errorf("reading the version of ffmpeg: %w", err)
	}
	return version, nil
}
