// Package upkeep is what people do beside pushing and pulling to keep names as they should
// be, by their rights: undoing removals, and setting rules.
package upkeep

import (
	"sync/atomic"
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

	// looking are the previews that go on: each reads very many tags.
	looking atomic.Int32
}

// mostPreviews is how many previews go on at once.
const mostPreviews = 2

// Look lets a preview begin, and returns how it ends; with too many it fails.
func (u *Upkeep) Look() (end func(), err error) {
	if u.looking.Add(1) > mostPreviews {
		u.looking.Add(-1)
		return nil, oci.Errorf(oci.CodeTooManyRequests, "%d previews go on already; try again in a moment", mostPreviews)
	}
	return func() { u.looking.Add(-1) }, nil
}
