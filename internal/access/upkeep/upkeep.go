// Package upkeep is what people do beside pushing and pulling to keep names as they should
// be, by their rights: undoing removals, and setting rules.
package upkeep

import (
	"sync"
	"time"

	"warthesis/internal/access"
	"warthesis/internal/clock"
	"warthesis/internal/oci"
	"warthesis/internal/record"
)

// Upkeep asks rights of Access, and changes records. It is safe for concurrent use.
type Upkeep struct {
	Access  *access.Access
	Records *record.Store
	Clock   clock.Clock
	// Grace is how long what was touched stays, in served time.
	Grace time.Duration
	// RuleWait is how long a list waits that could take more than before, in served time.
	RuleWait time.Duration

	// mu guards looking: who looks at very many tags just now.
	mu      sync.Mutex
	looks   int
	looking map[string]int
}

// mostLooks is how many looks at very many tags there are at once, mostOwnLooks how many of
// one caller.
const (
	mostLooks    = 6
	mostOwnLooks = 2
)

// Look lets a caller begin to look at very many tags, and returns how it ends. It fails where
// the caller does already, or too many others.
func (u *Upkeep) Look(c access.Caller) (end func(), err error) {
	who := "account " + c.Account.Name
	if c.Nobody() {
		who = "address " + c.Address
	}
	u.mu.Lock()
	defer u.mu.Unlock()
	switch {
	case u.looking[who] >= mostOwnLooks:
		return nil, oci.Errorf(oci.CodeTooManyRequests, "%s looks at %d large things already; wait until they are told, and try again", c.Who(), mostOwnLooks)
	case u.looks >= mostLooks:
		return nil, oci.Errorf(oci.CodeTooManyRequests, "others look at large things already; try again in a moment")
	case u.looking == nil:
		u.looking = map[string]int{}
	}
	u.looking[who]++
	u.looks++
	return func() {
		u.mu.Lock()
		defer u.mu.Unlock()
		u.looks--
		if u.looking[who]--; u.looking[who] == 0 {
			delete(u.looking, who)
		}
	}, nil
}
