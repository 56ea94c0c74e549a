package service

import (
	"testing"

	"vexillum/internal/core/farm"
	"vexillum/internal/service/queue"
	"vexillum/internal/wire"
)

// TestAReceiptSaysWhatIsWaitedFor reads the last sentence of receipts of runs that wait.
func TestAReceiptSaysWhatIsWaitedFor(t *testing.T) {
	for why, want := range map[string]string{
		"waits for salt_sim/final-1, which is queued": "It waits for salt_sim/final-1, which is queued.",
		"submitted by admin: 64 frames, waiting":      "It waits for what is submitted with it.",
	} {
		got := Receipt(Submitted{Submitted: queue.Submitted{
			Run: wire.Run{State: string(farm.RunWaiting), Why: why}, Able: 3,
		}})
		if got.Sentence != want {
			t.Errorf("of one that %s it says %q, want %q", why, got.Sentence, want)
		}
	}
}
