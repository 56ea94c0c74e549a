// Package secret makes and checks secrets: tokens and enrolment keys, of
// which only a hash is kept, and passwords by argon2id.
package secret

import (
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"strings"

	"golang.org/x/crypto/argon2"
)

// New returns a secret of 256 random bits with a prefix that says what it is
// for, such as "vxk" for an enrolment key.
func New(prefix string) string {
	var b [32]byte
	_, _ = rand.Read(b[:]) // never fails
	return prefix + "_" + base64.RawURLEncoding.EncodeToString(b[:])
}

// Signing returns a key of 256 random bits with which messages are signed, as the Standard
// Webhooks specification writes it.
func Signing() string {
	var b [32]byte
	_, _ = rand.Read(b[:]) // never fails
	return "whsec_" + base64.StdEncoding.EncodeToString(b[:])
}

// Hash returns what is kept of a secret made by New. Such a secret cannot be
// guessed, so a fast hash is enough.
func Hash(secret string) string {
	sum := sha256.Sum256([]byte(secret))
	return hex.EncodeToString(sum[:])
}

// Password returns a made-up password that can be read out: 80 random bits.
func Password() string {
	text := strings.ToLower(rand.Text()[:16])
	return text[:4] + "-" + text[4:8] + "-" + text[8:12] + "-" + text[12:]
}

// Parameters of argon2id: OWASP's second recommendation for memory and time.
const (
	argonTime    = 2
	argonMemory  = 19 * 1024 // KiB
	argonThreads = 1
	argonSalt    = 16
	argonKey     = 32
)

// Least and most characters of a password.
const (
	LeastPassword = 8
	MostPassword  = 200
)

// HashPassword returns the password's argon2id hash in PHC form.
func HashPassword(password string) (string, error) {
	if n := len(password); n < LeastPassword || n > MostPassword {
		return "", fmt.Errorf("a password has %d to %d characters, this one %d", LeastPassword, MostPassword, n)
	}
	var salt [argonSalt]byte
	_, _ = rand.Read(salt[:])
	key := argon2.IDKey([]byte(password), salt[:], argonTime, argonMemory, argonThreads, argonKey)
	b64 := base64.RawStdEncoding
	return fmt.Sprintf("$argon2id$v=%d$m=%d,t=%d,p=%d$%s$%s", argon2.Version, argonMemory, argonTime, argonThreads,
		b64.EncodeToString(salt[:]), b64.EncodeToString(key)), nil
}

var errForm = errors.New("the kept password hash is not in the form that is known")

// CheckPassword reports whether the password fits the hash. It takes as long
// for an empty hash as for a real one, so that nobody learns which names
// exist.
func CheckPassword(hash, password string) (bool, error) {
	known := hash != ""
	if !known {
		hash = nobody
	}
	parts := strings.Split(hash, "$")
	if len(parts) != 6 || parts[1] != "argon2id" {
		return false, errForm
	}
	var memory, passes uint32
	var threads uint8
	if _, err := fmt.Sscanf(parts[3], "m=%d,t=%d,p=%d", &memory, &passes, &threads); err != nil {
		return false, errForm
	}
	salt, err := base64.RawStdEncoding.DecodeString(parts[4])
	if err != nil {
		return false, errForm
	}
	want, err := base64.RawStdEncoding.DecodeString(parts[5])
	if err != nil || len(want) == 0 {
		return false, errForm
	}
	got := argon2.IDKey([]byte(password), salt, passes, memory, threads, uint32(len(want)))
	return subtle.ConstantTimeCompare(got, want) == 1 && known, nil
}

// nobody is a hash that fits no password anybody knows.
var nobody = fmt.Sprintf(
	"$argon2id$v=%d$m=%d,t=%d,p=%d$%s$%s", argon2.Version, argonMemory, argonTime, argonThreads,
	base64.RawStdEncoding.EncodeToString(make([]byte, argonSalt)),
	base64.RawStdEncoding.EncodeToString(make([]byte, argonKey)),
)
