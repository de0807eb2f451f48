package access

import (
	"context"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"errors"
	"fmt"
	"strings"
	"sync"
	"time"
	"unicode/utf8"

	lru "github.com/hashicorp/golang-lru/v2"
	"golang.org/x/crypto/argon2"

	"warthesis/internal/clock"
	"warthesis/internal/oci"
	"warthesis/internal/record"
)

// The cost of a password's hash (RFC 9106): memory in KiB and passes.
const (
	hashMemory = 19 << 10
	hashPasses = 2
	hashLength = 32
	saltLength = 16
)

func argon(password string, salt []byte) []byte {
	return argon2.IDKey([]byte(password), salt, hashPasses, hashMemory, 1, hashLength)
}

var raw64 = base64.RawStdEncoding

// HashPassword returns a password's hash in the form that records keep.
func (a *Access) HashPassword(ctx context.Context, password string) (kept string, err error) {
	err = a.hashers.do(ctx, "", func() { kept = NewHash(password) })
	if errors.Is(err, errCrowded) {
		err = &SlowDown{crowdedFor}
	}
	return kept, err
}

// NewHash is HashPassword for a program that serves nobody.
func NewHash(password string) string {
	salt := make([]byte, saltLength)
	rand.Read(salt)
	return fmt.Sprintf("$argon2id$v=%d$m=%d,t=%d,p=1$%s$%s", argon2.Version, hashMemory, hashPasses, raw64.EncodeToString(salt), raw64.EncodeToString(argon(password, salt)))
}

// nobodysHash is compared with where there is no account: the work is the same.
var nobodysHash = "$argon2id$v=19$m=19456,t=2,p=1$" + strings.Repeat("A", 22) + "$" + strings.Repeat("A", 43)

// matches reports whether the password is that of the hash. An empty hash is no password's.
func matches(password, kept string) (bool, error) {
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
	return subtle.ConstantTimeCompare(argon(password, salt), want) == 1 && fits, nil
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

// verifiedPassword is a password that was right, with the hash it was right for.
type verifiedPassword struct {
	kept string
	at   time.Duration
}

// verifiedFor is the served time for which a password that was right is not hashed again.
const verifiedFor = 5 * time.Minute

// SlowDown is the refusal of a try that comes too soon after wrong ones, or while
// too many others wait.
type SlowDown struct {
	// After is how long to wait.
	After time.Duration
}

// Error says it in a sentence.
func (s *SlowDown) Error() string {
	return fmt.Sprintf("too many tries to log in; wait %s and try again", s.After.Round(time.Second))
}

// Password returns the account that a name and a password, or a token in place of
// it, stand for. It fails with oci.CodeUnauthorized, or with a SlowDown.
func (a *Access) Password(ctx context.Context, name, password, address string) (Caller, error) {
	if looksLikeSecret(password) {
		return a.token(name, password, address)
	}
	if looksLikeBearer(password) {
		c, err := a.Bearer(ctx, password, address)
		if err == nil && (c.asked != nil || c.Account.Name != name) {
			err = errToken
		}
		return c, err
	}
	return a.prove(ctx, name, password, address)
}

// prove returns the account whose password it is: the password itself, and nothing
// that was got by it.
func (a *Access) prove(ctx context.Context, name, password, address string) (Caller, error) {
	if len(name) > oci.MaxNameLength || len(password) > mostPassword {
		return Caller{}, errWrong
	}
	account, _ := a.records.Rights().AccountNamed(name)
	key := a.mac(name, password)
	if v, ok := a.verified.Get(key); ok && v.kept == account.Password && account.DisabledAt == 0 && a.clock.Served()-v.at < verifiedFor {
		return Caller{Account: account, Address: address, proved: true}, nil
	}
	from := neighbourhood(address)
	// The same password that comes several times at once is one try.
	right, err, _ := a.trying.Do(string(key[:]), func() (any, error) {
		return a.try(context.WithoutCancel(ctx), account, name, password, from)
	})
	if err != nil {
		if errors.Is(err, errCrowded) {
			a.hashers.hold(ctx, from, crowdedFor)
			err = &SlowDown{crowdedFor}
		}
		return Caller{}, err
	}
	if !right.(bool) {
		a.hashers.hold(ctx, from, a.hashers.wrong(from))
		detail := "wrong password, or no such account"
		if account.DisabledAt != 0 {
			detail = "the account is disabled"
		}
		a.refusedNobody(record.Event{Account: name, Address: address, Detail: detail})
		return Caller{}, errWrong
	}
	a.verified.Add(key, verifiedPassword{account.Password, a.clock.Served()})
	return Caller{Account: account, Address: address, proved: true}, nil
}

// try checks one password. It counts before any work is done: a try is wrong until
// it was right.
func (a *Access) try(ctx context.Context, account record.Account, name, password, from string) (right bool, err error) {
	if wait := a.slow.begin(name, from); wait > 0 {
		return false, &SlowDown{wait}
	}
	if waited := a.hashers.do(ctx, from, func() { right, err = matches(password, account.Password) }); waited != nil {
		a.slow.undo(name, from)
		return false, waited
	}
	// Of an account that is disabled no password is right, and none is told from another.
	if right = right && account.DisabledAt == 0; right {
		a.slow.right(name, from)
	}
	return right, err
}

func (a *Access) mac(name, password string) (key [32]byte) {
	h := hmac.New(sha256.New, a.macKey[:])
	fmt.Fprintf(h, "%d %s%s", len(name), name, password)
	return [32]byte(h.Sum(nil))
}

// slowdown makes wrong tries wait, for each account and address together: whoever
// tries from elsewhere cannot lock the account out. It is safe for concurrent use.
type slowdown struct {
	clock clock.Clock

	mu    sync.Mutex
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
	return &slowdown{clock: clk, tries: c}, err
}

// begin counts a try as a wrong one, or returns how long it has to wait.
func (s *slowdown) begin(account, address string) (wait time.Duration) {
	s.mu.Lock()
	defer s.mu.Unlock()
	key := [2]string{account, address}
	now := s.clock.Served()
	t, _ := s.tries.Get(key)
	if t.until > now {
		return t.until - now
	}
	if now-t.last > forgetTries {
		t = tries{}
	}
	t.wrong, t.last = t.wrong+1, now
	if over := t.wrong - freeTries; over >= 0 {
		t.until = now + min(longest, time.Second<<min(over, 10))
	}
	s.tries.Add(key, t)
	return 0
}

// undo takes a try back that was not checked.
func (s *slowdown) undo(account, address string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	key := [2]string{account, address}
	if t, ok := s.tries.Get(key); ok && t.wrong > 0 {
		t.wrong--
		t.until = 0
		s.tries.Add(key, t)
	}
}

func (s *slowdown) right(account, address string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.tries.Remove([2]string{account, address})
}
