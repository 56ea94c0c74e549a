package api

import (
	"fmt"
	"net/http"
	"regexp"
	"slices"
	"strings"

	"github.com/gin-gonic/gin"

	"vexillum/internal/core/frames"
	"vexillum/internal/core/usage"
	"vexillum/internal/wire"
)

// Limits of what a node reports. They lie far beyond what a machine has or a
// frame takes, and well within what the records and the sums over them hold.
const (
	maxHolding = 1000    // leases that a node may hold something of
	maxItems   = 1000    // of a report
	maxFiles   = 100     // of a frame
	maxMessage = 4000    // characters of a renderer's last words
	maxLabel   = 200     // characters
	maxFacts   = 20_000  // characters of all facts
	maxParts   = 1000    // renderers, or graphics devices, of a node
	maxCores   = 1 << 16 // of a node
	maxBytes   = 1 << 50 // of a frame, or of a node's memory
	maxDisk    = 1 << 60 // bytes
	maxRate    = 1 << 50 // bytes a second
	maxSeconds = 30 * 24 * 60 * 60
)

// wrongFacts answers that a machine says about itself what cannot be.
func wrongFacts(c *gin.Context, in wire.Facts) bool {
	size := len(in.OS) + len(in.System) + len(in.Arch) + len(in.Version)
	if in.Means != nil {
		size += len(in.Means.Account) + len(in.Means.Memory)
	}
	for _, r := range in.Renderers {
		size += len(r.Recipe) + len(r.Path) + len(r.Version)
	}
	memory := in.Memory
	for _, d := range in.Devices {
		size += len(d.ID) + len(d.Model)
		memory = max(memory, d.Memory)
	}
	wrong := ""
	switch {
	case size > maxFacts:
		wrong = fmt.Sprintf("the facts have more than %d characters", maxFacts)
	case max(len(in.Renderers), len(in.Devices)) > maxParts:
		wrong = fmt.Sprintf("a node has at most %d renderers and %d graphics devices", maxParts, maxParts)
	case in.Cores < 0 || in.Cores > maxCores:
		wrong = fmt.Sprintf("a node has at most %d cores, not %d", maxCores, in.Cores)
	case in.Memory < 0 || memory > maxBytes || in.Disk < 0 || in.Disk > maxDisk:
		wrong = "memory and disk are given in bytes, and no machine has that many"
	case in.DiskRate > maxRate || in.NetworkRate > maxRate:
		wrong = "rates are given in bytes per second, and no machine is that fast"
	case in.Speed != 0 && (in.Speed < wire.MinSpeed || in.Speed > wire.MaxSpeed):
		wrong = fmt.Sprintf(
			"the speed index of a node lies between %g and %g, or is 0 where it was not measured", wire.MinSpeed,
			wire.MaxSpeed,
		)
	default:
		return false
	}
	problem(c, http.StatusUnprocessableEntity, "facts", wrong)
	return true
}

var fileHash = regexp.MustCompile(`^[0-9a-f]{64}$`)

func isFrame(n int) bool { return n >= frames.Least && n <= frames.Most }

// wrongItem returns which field of a reported item cannot be, and why.
func wrongItem(item wire.ReportItem) (field, reason string) {
	seconds := []float64{item.StartupSeconds, item.FetchedSeconds, item.RenderSeconds, item.CheckSeconds}
	hashed := item.Outcome == wire.OutcomeGood || item.Outcome == wire.OutcomeDelivered
	wrongSize := func(f wire.File) bool { return f.Bytes < 0 || f.Bytes > maxBytes }
	switch {
	case !isFrame(item.Frame):
		return "frame", fmt.Sprintf("%d is not a frame", item.Frame)
	case item.Launch < 0 || item.Launch > 1_000_000_000:
		return "launch", fmt.Sprintf("%d is not the number of a launch", item.Launch)
	case hashed && !fileHash.MatchString(item.Hash):
		return "hash", "a good frame is reported with its SHA-256 in hexadecimal"
	case item.Bytes < 0 || item.Bytes > maxBytes || slices.ContainsFunc(item.Files, wrongSize):
		return "bytes", fmt.Sprintf("a file has 0 to %d bytes", int64(maxBytes))
	case len(item.Files) > maxFiles || slices.ContainsFunc(item.Files, func(f wire.File) bool { return !fileHash.MatchString(f.Hash) }):
		return "files", fmt.Sprintf("a frame has at most %d files, each with its SHA-256 in hexadecimal", maxFiles)
	case slices.Min(seconds) < 0 || slices.Max(seconds) > maxSeconds:
		return "render_seconds", fmt.Sprintf("a time lies between 0 and %d seconds", maxSeconds)
	case item.FetchedBytes < 0 || item.FetchedBytes > maxBytes:
		return "fetched_bytes", fmt.Sprintf("a bundle has 0 to %d bytes", int64(maxBytes))
	case item.MemoryBytes > maxBytes:
		return "memory_bytes", fmt.Sprintf("a launch has at most %d bytes of memory", int64(maxBytes))
	case len(item.Cause) > 40:
		return "cause", "a cause has at most 40 characters"
	}
	return "", ""
}

// wrongProgress answers that a sign of life says what cannot be.
func wrongProgress(c *gin.Context, leases []wire.Progress) bool {
	if len(leases) > maxHolding {
		problem(
			c, http.StatusUnprocessableEntity, "leases", fmt.Sprintf("a node works on at most %d leases", maxHolding),
		)
		return true
	}
	for _, p := range leases {
		if p.Frame != nil && !isFrame(*p.Frame) || len(p.Verifying) > maxItems ||
			slices.ContainsFunc(p.Verifying, func(n int) bool { return !isFrame(n) }) {
			problem(
				c, http.StatusUnprocessableEntity, "leases",
				fmt.Sprintf(
					"lease %d is reported with a number that is not a frame, or with more than %d frames "+
						"being verified",
					p.Lease, maxItems,
				),
			)
			return true
		}
	}
	return false
}

// short bounds a sentence of a node.
func short(text string) string {
	const most = 400
	if len(text) > most {
		text = strings.ToValidUTF8(text[:most], "") + "…"
	}
	return text
}

// within bounds an amount that a node measured; below 0 stands for one that it
// could not.
func within(v, most float64) float64 { return min(max(v, usage.Unknown), most) }

func part(v float64) float64 { return min(max(v, 0), 1) }
