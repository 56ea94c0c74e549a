package launcher

import (
	"os"
	"os/exec"
	"runtime"
	"testing"
	"time"
)

// TestWhoWaitsForACoreIsAtWork lets one process that computes, and is to be nice, stand beside
// many that are not: what it used and waited for is still most of the time. One that sleeps
// counts as nothing.
func TestWhoWaitsForACoreIsAtWork(t *testing.T) {
	if _, err := os.Stat("/proc/self/schedstat"); err != nil {
		t.Skip("this system does not tell how long a process has waited for a core")
	}
	begin := func(script string) int {
		cmd := exec.Command("sh", "-c", script)
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { _ = cmd.Process.Kill(); _ = cmd.Wait() })
		return cmd.Process.Pid
	}
	for range 6 * runtime.NumCPU() {
		begin("while :; do :; done")
	}
	nice, asleep := begin("exec nice -n 15 sh -c 'while :; do :; done'"), begin("exec sleep 60")
	time.Sleep(500 * time.Millisecond)
	nicely, sleeping, began := usedBy(nice), usedBy(asleep), time.Now()
	time.Sleep(4 * time.Second)
	elapsed := time.Since(began)
	if part := float64(usedBy(nice)-nicely) / float64(elapsed); part < 0.5 {
		t.Errorf("who computes beside many counts as %.2f at work", part)
	}
	if part := float64(usedBy(asleep)-sleeping) / float64(elapsed); part > 0.05 {
		t.Errorf("who sleeps counts as %.2f at work", part)
	}
}
