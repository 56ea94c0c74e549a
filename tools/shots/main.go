// Command shots takes pictures of console pages of a running demo farm, for
// docs/screenshots. Usage: shots [-width W] [-height H] [-theme day] [-full] [-as NAME] [-script TEXT] [-wait TIME] URL PATH=FILE…
package main

import (
	"context"
	"flag"
	"fmt"
	"os"
	"strings"
	"time"

	"github.com/chromedp/chromedp"

	"vexillum/internal/demo"
	"vexillum/internal/testkit/browser"
)

func main() {
	if err := run(); err != nil {
		fmt.Fprintln(os.Stderr, "shots:", err)
		os.Exit(1)
	}
}

func run() error {
	width := flag.Int64("width", browser.Width, "pixels")
	height := flag.Int64("height", browser.Height, "pixels")
	theme := flag.String("theme", "night", "night or day")
	full := flag.Bool("full", false, "the whole page, not the window alone")
	signedOut := flag.Bool("signed-out", false, "do not sign in")
	as := flag.String("as", demo.Name, "who signs in")
	script := flag.String("script", "", "script to run on each page before the picture")
	wait := flag.Duration("wait", 1800*time.Millisecond, "until the picture, after the script")
	flag.Parse()
	if flag.NArg() < 2 {
		return fmt.Errorf("give an address and PATH=FILE")
	}
	dir, err := os.MkdirTemp("", "vexillum-shots-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	ctx, stop, err := browser.Start(ctx, dir)
	if err != nil {
		return err
	}
	defer stop()
	address := flag.Arg(0)
	first := chromedp.Tasks{
		chromedp.EmulateViewport(*width, *height),
		chromedp.Navigate(address),
		chromedp.WaitVisible(`input[name=name]`),
		chromedp.Evaluate(fmt.Sprintf(`localStorage.setItem("vexillum-theme", %q)`, *theme), nil),
	}
	if !*signedOut {
		first = append(
			first,
			chromedp.SendKeys(
				`input[name=name]`,
				*as,
			),
			chromedp.SendKeys(`input[name=password]`, demo.Password+"\n"),
			chromedp.WaitVisible(`nav`),
		)
	}
	if err := chromedp.Run(ctx, first); err != nil {
		return fmt.Errorf("signing in: %w", err)
	}
	for _, shot := range flag.Args()[1:] {
		at := strings.LastIndex(shot, "=") // a path may have some of its own
		path, file := shot[:max(at, 0)], shot[at+1:]
		var picture []byte
		tasks := chromedp.Tasks{chromedp.Navigate(address + path), chromedp.Sleep(1500 * time.Millisecond)}
		if *script != "" {
			tasks = append(tasks, chromedp.Evaluate(*script, nil), chromedp.Sleep(*wait))
		}
		if *full {
			tasks = append(tasks, chromedp.FullScreenshot(&picture, 100))
		} else {
			tasks = append(tasks, chromedp.CaptureScreenshot(&picture))
		}
		if err := chromedp.Run(ctx, tasks); err != nil {
			return fmt.Errorf("taking %s: %w", path, err)
		}
		if err := os.WriteFile(file, picture, 0o644); err != nil {
			return err
		}
	}
	return nil
}
