package access

import (
	"sync"

	"warthesis/internal/oci"
)

// Crowd bounds how much goes on at once, in total and by address. It is safe for
// concurrent use.
type Crowd struct {
	most, mostFromOne int
	refusal           error

	mu    sync.Mutex
	count count
}

// count counts in total and by address.
type count struct {
	total int
	of    map[string]int
}

func (c *count) add(address string, most, mostOfOne int) bool {
	if c.total >= most || c.of[address] >= mostOfOne {
		return false
	}
	c.total++
	c.of[address]++
	return true
}

func (c *count) take(address string) {
	c.total--
	if c.of[address]--; c.of[address] == 0 {
		delete(c.of, address)
	}
}

// NewCrowd returns a crowd of the size; what is said to who finds no room is a
// refusal with oci.CodeTooManyRequests.
func NewCrowd(most, mostFromOne int, says string) *Crowd {
	return &Crowd{most: most, mostFromOne: mostFromOne, refusal: oci.Errorf(oci.CodeTooManyRequests, "%s", says), count: count{of: map[string]int{}}}
}

// Enter takes a place for an address, which leave gives back.
func (w *Crowd) Enter(address string) (leave func(), err error) {
	from := neighbourhood(address)
	w.mu.Lock()
	defer w.mu.Unlock()
	if !w.count.add(from, w.most, w.mostFromOne) {
		return nil, w.refusal
	}
	return func() {
		w.mu.Lock()
		defer w.mu.Unlock()
		w.count.take(from)
	}, nil
}

// askingIssuers bounds who waits for the answer of an issuer.
func askingIssuers() *Crowd {
	return NewCrowd(64, 8, "too many logins wait for the issuer's answer; try again in some seconds")
}
