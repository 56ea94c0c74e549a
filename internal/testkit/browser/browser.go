// Package browser starts the machine's Chromium without a screen for the
// console's tests and pictures. It is for development alone.
package browser

import (
	"context"
	"os"
	"os/exec"

	"github.com/chromedp/chromedp"
)

// Width and Height are the size of the window in pixels.
const (
	Width  = 1280
	Height = 800
)

// Path returns the Chromium on this machine.
func Path() (string, error) {
	for _, name := range []string{"chromium", "chromium-browser"} {
		if path, err := exec.LookPath(name); err == nil {
			return path, nil
		}
	}
	return "", exec.ErrNotFound
}

// Start starts a browser that keeps its files in dir and reaches loopback
// alone. The returned function ends it.
func Start(ctx context.Context, dir string) (context.Context, context.CancelFunc, error) {
	path, err := Path()
	if err != nil {
		return nil, nil, err
	}
	options := append(chromedp.DefaultExecAllocatorOptions[:],
		chromedp.ExecPath(path),
		chromedp.UserDataDir(dir+"/profile"),
		chromedp.Env("TMPDIR="+dir, "HOME="+dir, "XDG_CONFIG_HOME="+dir, "XDG_CACHE_HOME="+dir),
		chromedp.WindowSize(Width, Height),
		chromedp.DisableGPU,
		chromedp.Flag("disable-background-networking", true),
		chromedp.Flag("disable-component-update", true),
		chromedp.Flag("disable-sync", true),
		chromedp.Flag("disable-domain-reliability", true),
		chromedp.Flag("disable-quic", true),
		chromedp.Flag("no-first-run", true),
		chromedp.Flag("hide-scrollbars", true),
		chromedp.Flag("disable-smooth-scrolling", true), // a click must not miss what is still moving
		chromedp.Flag("force-color-profile", "srgb"),
		chromedp.Flag("host-resolver-rules", "MAP * ~NOTFOUND, EXCLUDE 127.0.0.1"),
	)
	if os.Geteuid() == 0 {
		options = append(options, chromedp.NoSandbox)
	}
	ctx, stopAll := chromedp.NewExecAllocator(ctx, options...)
	quiet := chromedp.WithErrorf(func(string, ...any) {}) // events newer than the library
	ctx, stop := chromedp.NewContext(ctx, quiet)
	return ctx, func() { stop(); stopAll() }, nil
}
