package secret

import (
	"strings"
	"testing"
)

func TestPasswords(t *testing.T) {
	hash, err := HashPassword("kestrel over the flats")
	if err != nil || !strings.HasPrefix(hash, "$argon2id$v=19$m=19456,t=2,p=1$") {
		t.Fatalf("%q, %v", hash, err)
	}
	other, _ := HashPassword("kestrel over the flats")
	if other == hash {
		t.Error("the same password gave the same hash twice")
	}
	for password, want := range map[string]bool{"kestrel over the flats": true, "kestrel": false, "": false} {
		if ok, err := CheckPassword(hash, password); ok != want || err != nil {
			t.Errorf("%q: %v, %v", password, ok, err)
		}
	}
	if ok, err := CheckPassword("", ""); ok || err != nil {
		t.Errorf("nobody may sign in: %v, %v", ok, err)
	}
	for _, bad := range []string{"x", "$argon2id$v=19$m=a$b$c", "$argon2id$v=19$m=1,t=1,p=1$!$!"} {
		if ok, err := CheckPassword(bad, "x"); ok || err == nil {
			t.Errorf("hash %q: %v, %v", bad, ok, err)
		}
	}
	for _, bad := range []string{"short", strings.Repeat("x", 201)} {
		if _, err := HashPassword(bad); err == nil {
			t.Errorf("a password of %d characters was taken", len(bad))
		}
	}
}

func TestSecrets(t *testing.T) {
	a, b := New("vxk"), New("vxk")
	if a == b || !strings.HasPrefix(a, "vxk_") || len(a) < 40 {
		t.Errorf("%q and %q", a, b)
	}
	if Hash(a) == Hash(b) || len(Hash(a)) != 64 {
		t.Error("hashes do not tell secrets apart")
	}
	if p := Password(); len(p) != 19 || p == Password() {
		t.Errorf("made-up password %q", p)
	}
}
