// Package upkeep is what people do beside pushing and pulling to keep names as they should
// be, by their rights: undoing removals, and setting rules.
package upkeep

import (
	"warthesis/internal/access"
	"warthesis/internal/clock"
	"warthesis/internal/record"
)

// Upkeep asks rights of Access, and changes records. It is safe for concurrent use.
type Upkeep struct {
	Access  *access.Access
	Records *record.Store
	Clock   clock.Clock
}
