package node

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"syscall"
	"time"

	"vexillum/internal/client"
	"vexillum/internal/core/farm"
	"vexillum/internal/core/triage"
	"vexillum/internal/plainfile"
	"vexillum/internal/publish"
	"vexillum/internal/wire"
)

// upload is a frame that is sent to the service.
type upload struct {
	lease   int64
	frame   int
	hash    string // of the whole frame
	below   string // folder that no link of a source leads out of
	sources []string
	files   []publish.File // in the order of sources
}

// Waits between tries to deliver. A place that is gone comes back: the frame
// waits for it, and nothing is rendered twice because of it.
const (
	deliverSoon = 500 * time.Millisecond
	deliverLate = 10 * time.Second
	// deliveryTries is how often a delivery is tried that fails for a reason
	// which waiting may not mend.
	deliveryTries = 4
)

// deliver publishes an accepted frame: into its place where this node sees it,
// through the service where it does not. It returns what stands there.
func (w *work) deliver(sources []string, to publish.Target, frame int, send bool) (at publish.Standing, err error) {
	wait := deliverSoon
	defer w.status.set(func(n *moment) { n.trouble = "" })
	for try := 1; ; {
		at, err = w.deliverOnce(sources, to, frame, send || w.host.send)
		if err == nil || errors.Is(err, publish.ErrForeign) || w.stops.ctx.Err() != nil {
			return at, err
		}
		patient := errors.Is(err, publish.ErrNoPlace) || errors.Is(err, syscall.ENOSPC) ||
			errors.Is(err, syscall.EROFS) ||
			errors.Is(err, syscall.EIO) ||
			errors.Is(err, syscall.ESTALE)
		if !patient {
			if try++; try > deliveryTries {
				return at, err
			}
		}
		w.status.set(func(n *moment) { n.trouble = err.Error() })
		w.log.Warn("a frame waits to be delivered", "run", w.lease.RunName, "frame", frame, "error", err)
		select {
		case <-w.stops.stopped: // the run has ended: nobody waits for it
			return at, err
		case <-w.stops.ctx.Done():
			return at, err
		case <-time.After(wait):
		}
		wait = min(2*wait, deliverLate)
	}
}

func (w *work) deliverOnce(sources []string, to publish.Target, frame int, send bool) (publish.Standing, error) {
	var unseen error
	if to.Root != "" && !send {
		at, err := publish.Copy(sources, to)
		if !errors.Is(err, publish.ErrNoPlace) {
			return at, err
		}
		unseen = err
	}
	at, err := w.svc.upload(
		w.stops.ctx, upload{
			lease: w.lease.ID, frame: frame, hash: to.Hash(), below: to.Below, sources: sources, files: to.Files,
		},
	)
	if unseen != nil && errors.Is(err, publish.ErrNoPlace) {
		return at, fmt.Errorf("%w, and the service could not take the frame either", unseen)
	}
	return at, err
}

func deliveryCause(err error) string {
	switch {
	case errors.Is(err, publish.ErrForeign):
		return triage.CauseOutput
	case errors.Is(err, syscall.ENOSPC):
		return triage.CauseDiskFull
	}
	return triage.CauseDelivery
}

// piece is how many bytes of a frame are sent at once: what is lost with the
// line is no more.
const piece = 4 << 20

// upload implements service. It goes on where an earlier try has stopped.
func (a *Agent) upload(ctx context.Context, u upload) (publish.Standing, error) {
	for i, source := range u.sources {
		at, err := a.uploadFile(ctx, u, source, u.files[i])
		if err != nil || at.Hash != "" {
			return at, err
		}
	}
	return publish.Standing{}, errors.New("the service has all files of the frame and did not publish it")
}

// uploadFile sends one file of a frame. With the last that is missing, the
// service publishes the frame.
func (a *Agent) uploadFile(ctx context.Context, u upload, source string, f publish.File) (publish.Standing, error) {
	path := fmt.Sprintf(
		"/node/v1/leases/%d/frames/%d/file?hash=%s&pass=%s", u.lease, u.frame, u.hash, url.QueryEscape(f.Pass),
	)
	file, err := plainfile.OpenBelow(u.below, source)
	if err != nil {
		return publish.Standing{}, fmt.Errorf("opening the staged frame: %w", err)
	}
	defer file.Close()
	var at wire.Uploaded
	if err := a.persist(ctx, http.MethodGet, path, nil, &at); err != nil {
		return publish.Standing{}, uploadError(err)
	}
	for sent := false; at.Standing == nil && (at.Have < f.Bytes || !sent); sent = true {
		data := make([]byte, min(piece, f.Bytes-at.Have)) // of a file that is there already: nothing
		if _, err := file.ReadAt(data, at.Have); err != nil && !errors.Is(err, io.EOF) {
			return publish.Standing{}, fmt.Errorf("reading the staged frame: %w", err)
		}
		sending, cancel := context.WithTimeout(ctx, uploadTimeout)
		err := a.client.Send(
			sending, http.MethodPut, fmt.Sprintf("%s&offset=%d", path, at.Have), "application/octet-stream", data, &at,
		)
		cancel()
		if err != nil {
			return publish.Standing{}, uploadError(err)
		}
	}
	if at.Standing == nil {
		return publish.Standing{}, nil
	}
	out := publish.Standing{Hash: at.Standing.Hash, Bytes: at.Standing.Bytes}
	for _, f := range at.Standing.Files {
		out.Files = append(out.Files, farm.File(f))
	}
	return out, nil
}

// uploadTimeout bounds the sending of one piece.
const uploadTimeout = 2 * time.Minute

// uploadError gives what the service says its meaning for a delivery.
func uploadError(err error) error {
	var p *wire.Problem
	if errors.As(err, &p) {
		switch p.Field {
		case "place":
			return fmt.Errorf("%w: %s", publish.ErrNoPlace, p.Detail)
		case "target":
			return fmt.Errorf("%w: %s", publish.ErrForeign, p.Detail)
		}
	}
	var away *client.UnreachableError
	if errors.As(err, &away) || p != nil && p.Status >= http.StatusInternalServerError {
		return fmt.Errorf("%w: sending the frame to the service: %w", publish.ErrNoPlace, err)
	}
	return fmt.Errorf("sending the frame to the service: %w", err)
}
