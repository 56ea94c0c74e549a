package account

import (
	"errors"
	"os"
	"os/user"
	"slices"
	"strings"
	"testing"
)

// TestRootIsNeverResolved asks for every way to say root, and for accounts and groups that
// nobody on the machine has allowed.
func TestRootIsNeverResolved(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("only root can start commands under other accounts")
	}
	for _, name := range []string{"root", "0", "+0"} {
		if _, err := Open(Options{Account: name}); err == nil {
			t.Errorf("--render-account %s is taken", name)
		}
	}
	for _, permit := range []string{"account=root", "account=0", "group=root", "group=0", "root", "account=", ""} {
		if _, err := Open(Options{Account: "nobody", Permits: []string{permit}}); err == nil {
			t.Errorf("--permit %q is taken", permit)
		}
	}
	p, err := Open(Options{Account: "nobody", Permits: []string{"account=daemon", "group=audio"}})
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct{ account, group, says string }{
		{"", "", ""},
		{"nobody", "", ""},
		{"daemon", "", ""},
		{"", "audio", ""},
		{"daemon", "audio", ""},
		{"root", "", "never run as root"},
		{"0", "", "never run as root"},
		{"", "root", "never run as root"},
		{"", "0", "never run as root"},
		{"bin", "", "join --permit account=bin"},
		{"", "shadow", "join --permit group=shadow"},
		{"", "disk", "join --permit group=disk"},
		{"daemon", "sudo", "join --permit group=sudo"},
		{"nobody-has-this", "", "no account"},
		{"", "nobody-has-this", "no group"},
	} {
		who, err := p.Resolve(c.account, c.group, 7)
		if (err == nil) != (c.says == "") || err != nil && !strings.Contains(err.Error(), c.says) {
			t.Errorf("%q in %q: %v, want %q", c.account, c.group, err, c.says)
		}
		if err == nil && (who.UID == 0 || who.GID == 0 || slices.Contains(who.Groups, 0)) {
			t.Errorf("%q in %q: %+v", c.account, c.group, who)
		}
	}
}

func TestTheUsualAccountIsCreatedOnce(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("only root can start commands under other accounts")
	}
	var asked []string
	failed := errors.New("no room for accounts")
	_, err := Open(Options{Create: func(name string) error { asked = append(asked, name); return failed }})
	_, missing := user.Lookup(Usual)
	switch {
	case missing == nil && (err != nil || len(asked) > 0):
		t.Errorf("it is there, and was asked for: %v, %v", asked, err)
	case missing != nil && (!errors.Is(err, failed) || !slices.Equal(asked, []string{Usual})):
		t.Errorf("it is missing; asked %v, %v", asked, err)
	}
	if _, err := Open(Options{Account: "nobody-has-this", Create: func(string) error {
		t.Error("an account that a person names is created")
		return nil
	}}); err == nil {
		t.Error("an account that is missing is taken")
	}
}

// TestOneWhoCannotSwitchStays looks at a node process that is not root, and at trials by hand.
func TestOneWhoCannotSwitchStays(t *testing.T) {
	p, err := Open(Options{AsSelf: true})
	if err != nil {
		t.Fatal(err)
	}
	who, err := p.Resolve("", "", 7)
	if err != nil || who.Switched() || who.UID != os.Geteuid() {
		t.Errorf("%+v, %v", who, err)
	}
	if _, err := p.Resolve("nobody", "", 7); os.Geteuid() != 65534 && err == nil {
		t.Error("another account is promised")
	}
	if _, err := Open(Options{AsSelf: true, Account: "daemon"}); err == nil {
		t.Error("another account is taken")
	}
}
