package node

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/Masterminds/semver/v3"
	"github.com/dustin/go-humanize"

	"vexillum/internal/client"
	"vexillum/internal/wire"
)

// What a machine says when it joins: a line for each thing that was looked
// at, so that the person in front of it sees at once what is wrong.

// clockWarning is how far the clocks of node and service may differ before
// that is said: times of files and logs can then no longer be compared.
const clockWarning = 30 * time.Second

func (a *Agent) line(what, format string, args ...any) {
	a.o.Told(reportLine(what, format, args...))
}

func reportLine(what, format string, args ...any) string {
	return fmt.Sprintf("  %-12s %s", what, fmt.Sprintf(format, args...))
}

// greet looks whether a Vexillum service answers, and which. The error says
// which of the usual reasons it is if not. The lines are for later: where the
// machine is not taken, the error alone is told.
func (a *Agent) greet(ctx context.Context, service *client.Client) (lines []string, err error) {
	ctx, cancel := context.WithTimeout(ctx, callTimeout)
	defer cancel()
	var h wire.Health
	begin := time.Now()
	err = service.Do(ctx, http.MethodGet, "/healthz", nil, &h)
	took := time.Since(begin)
	if err != nil {
		return nil, err
	}
	if h.Service != "vexillum" {
		return nil, fmt.Errorf("%s: %w", a.o.Client.Address(), client.ErrNotVexillum)
	}
	if tooOld(a.o.Version, h.NodesFrom) {
		return nil, fmt.Errorf(
			"this node process is version %s, and the service takes %s or newer; install the service's version, %s, "+
				"on this machine",
			a.o.Version, h.NodesFrom, h.Version,
		)
	}
	lines = append(
		lines,
		reportLine(
			"service", "%s answers in %v, version %s, %s", a.o.Client.Address(), took.Round(100*time.Microsecond),
			h.Version, h.Part,
		),
	)
	if service.InTheClear() {
		lines = append(lines, reportLine(
			"warning", "the line to the service is not encrypted: this machine's token, scenes and frames can be read and "+
				"changed on the way; serve with --tls-cert and --tls-key",
		))
	}
	if off := time.Until(h.Now) + took/2; off.Abs() > clockWarning {
		lines = append(
			lines,
			reportLine(
				"clock",
				"differs from the service's by %v; set both from one time server, or the times of files and logs "+
					"cannot be compared",
				off.Round(time.Second),
			),
		)
	} else {
		lines = append(
			lines,
			reportLine("clock", "agrees with the service's within %v", max(off.Abs(), took).Round(time.Millisecond)),
		)
	}
	return lines, nil
}

// tooOld reports whether a version lies before the oldest that is taken.
// Versions that are none are not judged.
func tooOld(mine, oldest string) bool {
	m, err1 := semver.NewVersion(mine)
	o, err2 := semver.NewVersion(oldest)
	return err1 == nil && err2 == nil && m.LessThan(o)
}

// probe is how much is written and sent to measure disk and network.
const probe = 16 << 20

// measure says what the machine is and how fast its disk and its line to the
// service are.
func (a *Agent) measure(ctx context.Context) {
	f := a.facts
	a.line("machine", "%s, %d cores, %s of memory", f.System, f.Cores, humanize.IBytes(uint64(f.Memory)))
	for _, d := range f.Devices {
		memory := ""
		if d.Memory > 0 {
			memory = ", " + humanize.IBytes(uint64(d.Memory))
		}
		a.line("graphics", "%s%s (%s)", d.Model, memory, d.ID)
	}
	a.line("processor", "speed index %.2f", f.Speed)
	data := make([]byte, probe)
	_, _ = rand.Read(data) // it never fails, as its documentation says
	if rate, err := diskRate(a.staging(), data); err == nil {
		a.line("disk", "%s free, writes %s/s", humanize.IBytes(uint64(f.Disk)), humanize.IBytes(uint64(rate)))
		a.me.DiskRate = int64(rate)
	} else {
		a.line("disk", "cannot be written: %v", err)
	}
	begin := time.Now()
	sending, cancel := context.WithTimeout(ctx, uploadTimeout)
	defer cancel()
	if err := a.client.Send(
		sending, http.MethodPost, "/node/v1/probe", "application/octet-stream", data, nil,
	); err == nil {
		a.me.NetworkRate = int64(probe / time.Since(begin).Seconds())
		a.line("network", "sends %s/s to the service", humanize.IBytes(uint64(a.me.NetworkRate)))
	}
	if err := a.keepIdentity(); err != nil {
		a.o.Log.Warn("what was measured is not kept", "error", err)
	}
	if m := f.Means; m != nil {
		others := "so do renderers: they can read what it can. Start it as root to keep them apart"
		if m.Switches {
			others = "renderers run as " + strings.Join(append([]string{m.RendersAs}, m.Permits...), ", ")
		}
		memory := "they are only told how much memory they may use"
		if m.Memory != "told" {
			memory = "their memory is limited by " + m.Memory
		}
		a.line("account", "the node process runs as %s; %s; %s", m.Account, others, memory)
	}
	if len(f.Renderers) == 0 {
		a.line("renderers", "none was found; install one, or make a recipe that names where it is")
	}
	for _, r := range f.Renderers {
		unfit := ""
		if r.Unfit != "" {
			unfit = ", which will not do: " + r.Unfit
		}
		a.line("renderer", "%s %s at %s%s", r.Recipe, r.Version, r.Path, unfit)
	}
}

// diskRate returns the bytes a second at which a new file is written and made
// durable.
func diskRate(folder string, data []byte) (float64, error) {
	file, err := os.CreateTemp(folder, "probe-*")
	if err != nil {
		return 0, err
	}
	defer os.Remove(filepath.Join(folder, filepath.Base(file.Name())))
	begin := time.Now()
	_, err = file.Write(data)
	if err = errors.Join(err, file.Sync(), file.Close()); err != nil {
		return 0, err
	}
	return float64(len(data)) / time.Since(begin).Seconds(), nil
}
