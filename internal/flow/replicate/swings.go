package replicate

import (
	"sync"
	"time"

	"warthesis/internal/flow/sides"
	"warthesis/internal/oci"
)

// swings remembers what rules overrode that their other side had for itself, so that two
// registries whose rules override each other at the same moment do not exchange what they have
// again and again. It is safe for concurrent use.
type swings struct {
	mu  sync.Mutex
	all map[tagOf]overridden
}

// tagOf is a tag by a rule.
type tagOf struct {
	rule int64
	sides.At
}

type overridden struct {
	digest oci.Digest
	at     time.Time
}

// A tag swings where a rule would put back what it overrode so long ago at most.
const (
	swingsFor  = time.Hour
	mostSwings = 10_000
)

// overrides notes what a copy overrides.
func (s *swings) overrides(rule int64, c copied) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.all == nil || len(s.all) >= mostSwings {
		s.all = map[tagOf]overridden{}
	}
	s.all[tagOf{rule, sides.At{Name: c.name, Tag: c.tag}}] = overridden{c.was, time.Now()}
}

// putsBack reports whether a copy would put back what the rule overrode.
func (s *swings) putsBack(rule int64, c copied) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	was, there := s.all[tagOf{rule, sides.At{Name: c.name, Tag: c.tag}}]
	return there && was.digest == c.digest && time.Since(was.at) < swingsFor
}
