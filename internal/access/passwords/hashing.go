package passwords

import (
	"context"
	"errors"
	"math"
	"sync"
	"time"

	"github.com/hashicorp/golang-lru/v2"

	"warthesis/internal/access/crowd"
	"warthesis/internal/clock"
)

const (
	// atOnce is how many passwords are hashed at a time, so that a storm of logins
	// takes neither all processors nor all memory.
	atOnce = 2
	// mostWaiting is how many wait for that, and mostFromOne how many of one address.
	mostWaiting = 512
	mostFromOne = 64
	// mostHeld is how many answers are held back at once, and mostHeldFromOne how many
	// of one address.
	mostHeld        = 2048
	mostHeldFromOne = 512
	// crowdedFor is how long the refusal of a try is held back that found no room: who
	// comes again at once would otherwise always be before those who try once.
	CrowdedFor = time.Second
	// patientWrong is how many wrong tries of an address, over all names, are answered
	// at once. Each one above holds the next back longer, up to longestHold: whoever
	// tries many names from many connections soon waits with all of them, and leaves
	// room for those who try once. Half of them are forgotten each forgetHalf.
	patientWrong = 20
	holdForEach  = 100 * time.Millisecond
	longestHold  = 20 * time.Second
	forgetHalf   = time.Minute
)

// Hashers lets passwords be hashed, some at a time, and bounds who waits for it
// before any work is done. Addresses take turns, so that none waits for the crowd of
// another. It is safe for concurrent use.
type Hashers struct {
	clock clock.Clock
	stop  <-chan struct{}

	mu      sync.Mutex
	running int
	waiting int
	// lines are those who wait, by address; turns are the addresses, the next first.
	lines  map[string][]chan struct{}
	turns  []string
	held   crowd.Count
	wrongs *lru.Cache[string, wrongs]
}

// wrongs is how many wrong tries an address had, as of a served time.
type wrongs struct {
	count float64
	at    time.Duration
}

// NewHashers returns hashers that let nobody wait once stop is closed.
func NewHashers(clk clock.Clock, stop <-chan struct{}) (*Hashers, error) {
	kept, err := lru.New[string, wrongs](1 << 14)
	return &Hashers{clock: clk, stop: stop, lines: map[string][]chan struct{}{}, held: crowd.Count{Of: map[string]int{}}, wrongs: kept}, err
}

// ErrCrowded: too many wait to have their passwords checked.
var ErrCrowded = errors.New("too many passwords wait to be checked")

// Do runs one hash once the address has its turn. It fails with ErrCrowded at once
// where too many wait.
func (h *Hashers) Do(ctx context.Context, address string, hash func()) error {
	turn, err := h.line(address)
	if err != nil {
		return err
	}
	if turn != nil {
		select {
		case <-turn:
		case <-ctx.Done():
			// The turn may come all the same: it is passed on then.
			go func() {
				<-turn
				h.pass()
			}()
			return ctx.Err()
		}
	}
	defer h.pass()
	hash()
	return nil
}

// line takes a slot, or a place in the line of an address, whose turn comes on the
// channel.
func (h *Hashers) line(address string) (chan struct{}, error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.running < atOnce {
		h.running++
		return nil, nil
	}
	line := h.lines[address]
	if h.waiting >= mostWaiting || len(line) >= mostFromOne {
		return nil, ErrCrowded
	}
	if len(line) == 0 {
		h.turns = append(h.turns, address)
	}
	turn := make(chan struct{})
	h.lines[address] = append(line, turn)
	h.waiting++
	return turn, nil
}

// pass hands a slot to the address whose turn it is.
func (h *Hashers) pass() {
	h.mu.Lock()
	defer h.mu.Unlock()
	if len(h.turns) == 0 {
		h.running--
		return
	}
	address := h.turns[0]
	h.turns = h.turns[1:]
	line := h.lines[address]
	close(line[0])
	h.waiting--
	if h.lines[address] = line[1:]; len(line) == 1 {
		delete(h.lines, address)
		return
	}
	h.turns = append(h.turns, address)
}

// Wrong counts a wrong try of an address, and returns how long its answer is held back.
func (h *Hashers) Wrong(address string) time.Duration {
	h.mu.Lock()
	defer h.mu.Unlock()
	now := h.clock.Served()
	w, _ := h.wrongs.Get(address)
	w.count = w.count*math.Exp2(-float64(now-w.at)/float64(forgetHalf)) + 1
	w.at = now
	h.wrongs.Add(address, w)
	return max(0, min(longestHold, time.Duration((w.count-patientWrong)*float64(holdForEach))))
}

// Hold lets an answer wait, where not too many wait already.
func (h *Hashers) Hold(ctx context.Context, address string, span time.Duration) {
	h.mu.Lock()
	held := span > 0 && h.held.Add(address, mostHeld, mostHeldFromOne)
	h.mu.Unlock()
	if !held {
		return
	}
	defer func() {
		h.mu.Lock()
		defer h.mu.Unlock()
		h.held.Take(address)
	}()
	timer := time.NewTimer(span)
	defer timer.Stop()
	select {
	case <-timer.C:
	case <-ctx.Done():
	case <-h.stop:
	}
}
