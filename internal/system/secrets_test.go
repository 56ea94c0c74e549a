package system

import (
	"bytes"
	"fmt"
	"net/url"
	"os"
	"runtime"
	"testing"
)

// TestSecretsAreNotOnCommandLines looks at what every account of a machine sees of its processes.
func TestSecretsAreNotOnCommandLines(t *testing.T) {
	t.Parallel()
	if runtime.GOOS != "linux" {
		t.Skip("command lines are looked up under /proc")
	}
	f := newFarm(t)
	f.signIn()
	node := f.join("kiln-01", "--renderers", "practice")
	u, err := url.Parse(f.url)
	if err != nil {
		t.Fatal(err)
	}
	password, given := u.User.Password()
	if !given {
		t.Fatal("the service was given no password")
	}
	for name, c := range map[string]struct {
		pid             int
		word, flag, not string
	}{
		"service": {f.service.cmd.Process.Pid, "serve", "--database", password},
		"node":    {node.cmd.Process.Pid, "join", "--key", "vxk_"},
	} {
		line, err := os.ReadFile(fmt.Sprintf("/proc/%d/cmdline", c.pid))
		if err != nil {
			t.Fatal(err)
		}
		if !bytes.Contains(line, []byte(c.word)) {
			t.Errorf("the %s has the command line %q", name, line)
		}
		if bytes.Contains(line, []byte(c.flag)) || bytes.Contains(line, []byte(c.not)) {
			t.Errorf("the %s shows its secret: %q", name, line)
		}
	}
}
