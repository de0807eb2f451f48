package access

import (
	"context"
	"net/netip"
	"sync"
	"time"
)

const (
	// atOnce is how many passwords are hashed at a time, so that a storm of logins
	// takes neither all processors nor all memory.
	atOnce = 2
	// mostWaiting is how many wait for that, and mostFromOne how many of one address.
	mostWaiting = 64
	mostFromOne = 8
	// mostHeld is how many refused tries are held back at once, mostHeldFromOne how
	// many of one address, and heldFor how long: who is refused and comes again at
	// once would otherwise always be before those who try once.
	mostHeld        = 1024
	mostHeldFromOne = 128
	heldFor         = 3 * time.Second
)

// hashers lets passwords be hashed, some at a time, and bounds who waits for it
// before any work is done. It is safe for concurrent use.
type hashers struct {
	slots chan struct{}
	stop  <-chan struct{}

	mu      sync.Mutex
	waiting count
	held    count
}

func newHashers(stop <-chan struct{}) *hashers {
	return &hashers{slots: make(chan struct{}, atOnce), stop: stop, waiting: count{of: map[string]int{}}, held: count{of: map[string]int{}}}
}

// enter takes a place in the queue, or reports that there is none.
func (h *hashers) enter(address string) bool {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.waiting.add(address, mostWaiting, mostFromOne)
}

func (h *hashers) leave(address string) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.waiting.take(address)
}

// do runs one hash once its turn has come.
func (h *hashers) do(ctx context.Context, hash func()) error {
	select {
	case h.slots <- struct{}{}:
	case <-ctx.Done():
		return ctx.Err()
	}
	defer func() { <-h.slots }()
	hash()
	return nil
}

// hold lets a refusal wait before it is answered, where not too many wait already.
func (h *hashers) hold(ctx context.Context, address string) {
	h.mu.Lock()
	held := h.held.add(address, mostHeld, mostHeldFromOne)
	h.mu.Unlock()
	if !held {
		return
	}
	defer func() {
		h.mu.Lock()
		defer h.mu.Unlock()
		h.held.take(address)
	}()
	timer := time.NewTimer(heldFor)
	defer timer.Stop()
	select {
	case <-timer.C:
	case <-ctx.Done():
	case <-h.stop:
	}
}

// neighbourhood is by what addresses are counted: an IPv4 address as it is, of an
// IPv6 address the network that one subscriber has at least (RFC 6177).
func neighbourhood(address string) string {
	addr, err := netip.ParseAddr(address)
	if err != nil || addr.Unmap().Is4() {
		return address
	}
	prefix, err := addr.WithZone("").Prefix(64)
	if err != nil {
		return address
	}
	return prefix.String()
}
