package cli

import (
	"context"
	"fmt"
	"os"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"vexillum/internal/movie"
)

// movieCommand makes a movie, as the recipe for movies does on nodes.
func (a *app) movieCommand() *cobra.Command {
	p := movie.Plan{Folder: "."}
	list, probe := "", false
	c := &cobra.Command{
		Use: "movie --list FILE --output movie.mp4", Short: "Make a movie of frames, as the recipe for movies does",
		Hidden: true, Args: exactly(0, "no arguments"),
		RunE: func(c *cobra.Command, _ []string) error {
			if probe {
				version, err := movie.Version(c.Context())
				if err == nil {
					fmt.Fprintf(a.out, "ffmpeg %s\n", version)
				}
				return err
			}
			return a.makeMovie(c.Context(), p, list)
		},
	}
	f := c.Flags()
	f.StringVar(&list, "list", "", "file with a line for each frame: its number, a tab and its path")
	f.StringVar(&p.FPS, "fps", "24", "frames a second")
	f.StringVar(&p.Codec, "codec", "", "codec: h264, h265, prores or vp9")
	f.IntVar(&p.Quality, "quality", -1, "0, the best, to 51")
	f.BoolVar(&p.Gaps, "gaps", false, "hold the frame before a gap through it")
	f.StringVarP(&p.Output, "output", "o", "movie.mp4", "file of the movie")
	f.BoolVar(&probe, "probe", false, "tell the version of ffmpeg")
	return c
}

func (a *app) makeMovie(ctx context.Context, p movie.Plan, list string) error {
	text, err := readInput(list, "a list of frames")
	if err != nil {
		return err
	}
	for line := range strings.Lines(string(text)) {
		number, path, ok := strings.Cut(strings.TrimRight(line, "\r\n"), "\t")
		n, err := strconv.Atoi(number)
		if !ok || err != nil {
			return fmt.Errorf("%q is not a number, a tab and a path", strings.TrimSpace(line))
		}
		p.Frames = append(p.Frames, movie.Frame{Number: n, Path: path})
	}
	told := -1
	facts, err := movie.Make(ctx, p, func(done, of int) {
		if done > told {
			told = done
			fmt.Fprintf(a.out, "frame %d of %d\n", done, of)
		}
	})
	if err != nil {
		os.Remove(p.Output) // a file that is not what it should be must not be taken for one
		return err
	}
	fmt.Fprintf(
		a.out,
		"%s: %d×%d, %d frames, %.2f s, %s frames a second\n",
		facts.Codec,
		facts.Width,
		facts.Height,
		facts.Frames,
		facts.Seconds,
		facts.Rate.FloatString(3),
	)
	return nil
}
