package record

import (
	"testing"
	"time"

	"github.com/mattn/go-sqlite3"
	"github.com/stretchr/testify/assert"
)

// While damage is known, a question that meets it is no news: each would begin a complete
// check, and a line in the audit log.
func TestASignOfKnownDamageSaysNothingNew(t *testing.T) {
	s, _ := fresh(t)
	meets := func() {
		damageLogger{integrity: s.integrity}.Trace(ctx, time.Now(), nil, sqlite3.Error{Code: sqlite3.ErrCorrupt})
	}
	meets()
	assert.Len(t, s.Damages(), 1)
	s.integrity.replace([]Damage{{Table: "tags", What: "a page"}})
	meets()
	assert.Len(t, s.Damages(), 1)
	assert.Equal(t, "tags", s.Damages()[0].Table)
	s.integrity.replace(nil)
	assert.Empty(t, s.Damages())
}
