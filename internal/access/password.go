package access

import (
	"context"
	"crypto/rand"
	"crypto/subtle"
	"encoding/base64"
	"fmt"
	"strings"
	"time"
	"unicode/utf8"

	lru "github.com/hashicorp/golang-lru/v2"
	"golang.org/x/crypto/argon2"

	"warthesis/internal/clock"
	"warthesis/internal/oci"
)

// The cost of a password's hash (RFC 9106): memory in KiB and passes.
const (
	hashMemory = 19 << 10
	hashPasses = 2
	hashLength = 32
	saltLength = 16
)

// hashing lets two hashes be made at a time, so that a storm of logins takes
// neither all processors nor all memory.
var hashing = make(chan struct{}, 2)

func argon(ctx context.Context, password string, salt []byte) ([]byte, error) {
	select {
	case hashing <- struct{}{}:
	case <-ctx.Done():
		return nil, ctx.Err()
	}
	defer func() { <-hashing }()
	return argon2.IDKey([]byte(password), salt, hashPasses, hashMemory, 1, hashLength), nil
}

var raw64 = base64.RawStdEncoding

// HashPassword returns a password's hash in the form that records keep.
func HashPassword(ctx context.Context, password string) (string, error) {
	salt := make([]byte, saltLength)
	rand.Read(salt)
	hash, err := argon(ctx, password, salt)
	return fmt.Sprintf("$argon2id$v=%d$m=%d,t=%d,p=1$%s$%s", argon2.Version, hashMemory, hashPasses, raw64.EncodeToString(salt), raw64.EncodeToString(hash)), err
}

// nobodysHash is compared with where there is no account: the work is the same.
var nobodysHash = "$argon2id$v=19$m=19456,t=2,p=1$" + strings.Repeat("A", 22) + "$" + strings.Repeat("A", 43)

// matches reports whether the password is that of the hash. An empty hash is no password's.
func matches(ctx context.Context, password, kept string) (bool, error) {
	fits := kept != ""
	if !fits {
		kept = nobodysHash
	}
	parts := strings.Split(kept, "$")
	if len(parts) != 6 {
		return false, fmt.Errorf("a password's hash is not in its form")
	}
	salt, err := raw64.DecodeString(parts[4])
	if err != nil {
		return false, err
	}
	want, err := raw64.DecodeString(parts[5])
	if err != nil {
		return false, err
	}
	got, err := argon(ctx, password, salt)
	if err != nil {
		return false, err
	}
	return subtle.ConstantTimeCompare(got, want) == 1 && fits, nil
}

// The shortest and the longest password, in characters and in bytes.
const (
	leastPassword = 10
	mostPassword  = 1024
	// leastBesideName is how many characters it has besides the account's name.
	leastBesideName = 6
)

// CheckPassword refuses passwords that are too easy to guess.
func CheckPassword(account, password string) error {
	switch {
	case utf8.RuneCountInString(password) < leastPassword:
		return oci.Errorf(oci.CodeQueryInvalid, "the password has fewer than %d characters; take a longer one", leastPassword)
	case len(password) > mostPassword:
		return oci.Errorf(oci.CodeQueryInvalid, "the password has more than %d bytes; take a shorter one", mostPassword)
	case utf8.RuneCountInString(strings.ReplaceAll(strings.ToLower(password), strings.ToLower(account), "")) < leastBesideName:
		return oci.Errorf(oci.CodeQueryInvalid, "the password is hardly more than the account's name; take another")
	case sameCharacters(password):
		return oci.Errorf(oci.CodeQueryInvalid, "the password has fewer than 5 different characters; take another")
	}
	return nil
}

func sameCharacters(s string) bool {
	seen := map[rune]bool{}
	for _, r := range s {
		seen[r] = true
	}
	return len(seen) < 5
}

// slowdown makes wrong tries wait, for each account and address together: whoever
// tries from elsewhere cannot lock the account out.
type slowdown struct {
	clock clock.Clock
	tries *lru.Cache[[2]string, tries]
}

type tries struct {
	wrong int
	until time.Duration
	last  time.Duration
}

const (
	// freeTries may be wrong before there is a wait.
	freeTries = 5
	longest   = time.Minute
	// forgetTries is the served time after which wrong tries are forgotten.
	forgetTries = 15 * time.Minute
)

func newSlowdown(clk clock.Clock) (*slowdown, error) {
	c, err := lru.New[[2]string, tries](1 << 16)
	return &slowdown{clk, c}, err
}

// wait returns how long the next try has to wait.
func (s *slowdown) wait(account, address string) time.Duration {
	t, _ := s.tries.Get([2]string{account, address})
	return max(0, t.until-s.clock.Served())
}

func (s *slowdown) wrong(account, address string) {
	key := [2]string{account, address}
	now := s.clock.Served()
	t, _ := s.tries.Get(key)
	if now-t.last > forgetTries {
		t = tries{}
	}
	t.wrong, t.last = t.wrong+1, now
	if over := t.wrong - freeTries; over >= 0 {
		t.until = now + min(longest, time.Second<<min(over, 10))
	}
	s.tries.Add(key, t)
}

func (s *slowdown) right(account, address string) { s.tries.Remove([2]string{account, address}) }
