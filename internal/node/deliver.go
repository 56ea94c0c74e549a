package node

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"syscall"
	"time"

	"vexillum/internal/client"
	"vexillum/internal/core/triage"
	"vexillum/internal/publish"
	"vexillum/internal/wire"
)

// upload is a frame that is sent to the service.
type upload struct {
	lease int64
	frame int
	path  string
	hash  string
	size  int64
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
// through the service where it does not. It returns the hash of what stands
// there.
func (w *work) deliver(path string, size int64, to publish.Target, frame int) (standing string, err error) {
	wait := deliverSoon
	defer w.set(func() { w.trouble = "" })
	for try := 1; ; {
		standing, err = w.deliverOnce(path, size, to, frame)
		if err == nil || errors.Is(err, publish.ErrForeign) || w.ctx.Err() != nil {
			return standing, err
		}
		patient := errors.Is(err, publish.ErrNoPlace) || errors.Is(err, syscall.ENOSPC) || errors.Is(err, syscall.EROFS) || errors.Is(err, syscall.EIO) || errors.Is(err, syscall.ESTALE)
		if !patient {
			if try++; try > deliveryTries {
				return "", err
			}
		}
		w.set(func() { w.trouble = err.Error() })
		w.log.Warn("a frame waits to be delivered", "run", w.lease.RunName, "frame", frame, "error", err)
		select {
		case <-w.stopped: // the run has ended: nobody waits for it
			return "", err
		case <-w.ctx.Done():
			return "", err
		case <-time.After(wait):
		}
		wait = min(2*wait, deliverLate)
	}
}

func (w *work) deliverOnce(path string, size int64, to publish.Target, frame int) (string, error) {
	var unseen error
	if to.Root != "" && !w.send {
		standing, err := publish.Copy(path, to)
		if !errors.Is(err, publish.ErrNoPlace) {
			return standing, err
		}
		unseen = err
	}
	standing, err := w.svc.upload(w.ctx, upload{lease: w.lease.ID, frame: frame, path: path, hash: to.Hash, size: size})
	if unseen != nil && errors.Is(err, publish.ErrNoPlace) {
		return "", fmt.Errorf("%w, and the service could not take the frame either", unseen)
	}
	return standing, err
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
func (a *Agent) upload(ctx context.Context, u upload) (standing string, err error) {
	path := fmt.Sprintf("/node/v1/leases/%d/frames/%d/file?hash=%s", u.lease, u.frame, u.hash)
	file, err := os.Open(u.path)
	if err != nil {
		return "", fmt.Errorf("opening the staged frame: %w", err)
	}
	defer file.Close()
	var at wire.Uploaded
	if err := a.persist(ctx, http.MethodGet, path, nil, &at); err != nil {
		return "", uploadError(err)
	}
	for at.Standing == "" {
		data := make([]byte, min(piece, u.size-at.Have))
		if _, err := file.ReadAt(data, at.Have); err != nil && !errors.Is(err, io.EOF) {
			return "", fmt.Errorf("reading the staged frame: %w", err)
		}
		sending, cancel := context.WithTimeout(ctx, uploadTimeout)
		err := a.client.Send(sending, http.MethodPut, fmt.Sprintf("%s&offset=%d", path, at.Have), "application/octet-stream", data, &at)
		cancel()
		if err != nil {
			return "", uploadError(err)
		}
	}
	return at.Standing, nil
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
