package record

import (
	"context"

	"gorm.io/gorm"

	"warthesis/internal/record/follows"
	"warthesis/internal/record/inuse"
	"warthesis/internal/record/keeping"
	"warthesis/internal/record/peers"
	"warthesis/internal/record/rulelists"
)

// Keeping reads what retention rules judge.
func (v View) Keeping() keeping.Records { return keeping.Records{DB: v.db} }

// Retention are the retention rules that were read.
func (v View) Retention() *keeping.Compiled { return v.keeping }

// InUse are the lists of what is in use.
func (v View) InUse() inuse.Lists { return inuse.Lists{DB: v.db} }

// Peers are the other registries that this one talks to.
func (v View) Peers() peers.Peers { return peers.Peers{DB: v.db} }

// Follows are the namespaces that follow peers.
func (v View) Follows() follows.Records { return follows.Records{DB: v.db} }

// Snapshot reads the records at one moment; it takes no longer than some seconds.
func (s *Store) Snapshot(ctx context.Context, read func(View) error) error {
	return s.read.WithContext(ctx).Transaction(func(db *gorm.DB) error {
		view := s.View(ctx)
		view.db = db
		// Which lists stand now is asked for as of the same moment.
		view.rules.Known = func() *rulelists.Known { return nil }
		return read(view)
	})
}

// Judging says by what repositories are judged.
func (v View) Judging() keeping.Rules {
	return keeping.Rules{Records: v.Keeping(), Lists: v.RuleLists(), Compiled: v.keeping, Sealing: v.sealing}
}
