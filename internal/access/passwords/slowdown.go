package passwords

import (
	"fmt"
	"strings"
	"sync"
	"time"

	"github.com/hashicorp/golang-lru/v2"

	"warthesis/internal/clock"
)

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

// Slowdown makes wrong tries wait, for each account and address together: whoever
// tries from elsewhere cannot lock the account out. It is safe for concurrent use.
type Slowdown struct {
	clock clock.Clock

	mu    sync.Mutex
	tries *lru.Cache[[2]string, tries]
}

type tries struct {
	wrong int
	until time.Duration
	last  time.Duration
}

// FreeTries may be wrong before there is a wait.
const FreeTries = 5

const longest = time.Minute

// forgetTries is the served time after which wrong tries are forgotten.
const forgetTries = 15 * time.Minute

// NewSlowdown returns a slowdown that knows of no wrong try.
func NewSlowdown(clk clock.Clock) (*Slowdown, error) {
	c, err := lru.New[[2]string, tries](1 << 16)
	return &Slowdown{clock: clk, tries: c}, err
}

// mostName is how much of an account's name is remembered, in bytes: no account has a longer
// one.
const mostName = 256

func keyOf(account, address string) [2]string {
	return [2]string{strings.Clone(account[:min(len(account), mostName)]), address}
}

// Begin counts a try as a wrong one, or returns how long it has to wait.
func (s *Slowdown) Begin(account, address string) (wait time.Duration) {
	s.mu.Lock()
	defer s.mu.Unlock()
	key := keyOf(account, address)
	now := s.clock.Served()
	t, _ := s.tries.Get(key)
	if t.until > now {
		return t.until - now
	}
	if now-t.last > forgetTries {
		t = tries{}
	}
	t.wrong, t.last = t.wrong+1, now
	if over := t.wrong - FreeTries; over >= 0 {
		t.until = now + min(longest, time.Second<<min(over, 10))
	}
	s.tries.Add(key, t)
	return 0
}

// Undo takes a try back that was not checked.
func (s *Slowdown) Undo(account, address string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	key := keyOf(account, address)
	if t, ok := s.tries.Get(key); ok && t.wrong > 0 {
		t.wrong--
		t.until = 0
		s.tries.Add(key, t)
	}
}

// Right forgets the wrong tries before a right one.
func (s *Slowdown) Right(account, address string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.tries.Remove([2]string{account, address})
}
