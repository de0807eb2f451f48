package crowd

import (
	"net/netip"
	"sync"

	"warthesis/internal/oci"
)

// Crowd bounds how much goes on at once, in total and by address. It is safe for
// concurrent use.
type Crowd struct {
	most, mostFromOne int
	refusal           error

	mu    sync.Mutex
	count Count
}

// Count counts in total and by address.
type Count struct {
	total int
	Of    map[string]int
}

// Add counts one more of an address, where there is room for it.
func (c *Count) Add(address string, most, mostOfOne int) bool {
	if c.total >= most || c.Of[address] >= mostOfOne {
		return false
	}
	c.total++
	c.Of[address]++
	return true
}

// Take takes one of an address off.
func (c *Count) Take(address string) {
	c.total--
	if c.Of[address]--; c.Of[address] == 0 {
		delete(c.Of, address)
	}
}

// NewCrowd returns a crowd of the size; what is said to who finds no room is a
// refusal with oci.CodeTooManyRequests.
func NewCrowd(most, mostFromOne int, says string) *Crowd {
	return &Crowd{most: most, mostFromOne: mostFromOne, refusal: oci.Errorf(oci.CodeTooManyRequests, "%s", says), count: Count{Of: map[string]int{}}}
}

// Enter takes a place for an address, which leave gives back.
func (w *Crowd) Enter(address string) (leave func(), err error) {
	from := Neighbourhood(address)
	w.mu.Lock()
	defer w.mu.Unlock()
	if !w.count.Add(from, w.most, w.mostFromOne) {
		return nil, w.refusal
	}
	return func() {
		w.mu.Lock()
		defer w.mu.Unlock()
		w.count.Take(from)
	}, nil
}

// Neighbourhood is by what addresses are counted: an IPv4 address as it is, of an
// IPv6 address the network that one subscriber has at least (RFC 6177).
func Neighbourhood(address string) string {
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
