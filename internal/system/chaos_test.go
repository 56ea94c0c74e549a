package system

import (
	"context"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// TestChaos plays some rounds of the chaos harness with a fixed seed.
func TestChaos(t *testing.T) {
	t.Parallel()
	if testing.Short() {
		t.Skip("it takes a minute")
	}
	dir := t.TempDir()
	tool := filepath.Join(dir, "chaos")
	if out, err := exec.Command("go", "build", "-o", tool, "vexillum/tools/chaos").CombinedOutput(); err != nil {
		t.Fatalf("building the harness: %v\n%s", err, out)
	}
	ctx, cancel := context.WithTimeout(t.Context(), 8*time.Minute)
	defer cancel()
	cmd := exec.CommandContext(ctx, tool, "-rounds", "2", "-seed", "7420", "-binary", binary)
	out, err := cmd.CombinedOutput()
	if err != nil || !strings.Contains(string(out), "2 rounds clean") {
		t.Fatalf("%v\n%s", err, out)
	}
	t.Logf("%s", out)
}
