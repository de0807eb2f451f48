package record

import (
	"context"
	"errors"
	"time"

	"gorm.io/gorm"

	"warthesis/internal/oci"
	"warthesis/internal/record/bans"
	"warthesis/internal/record/erasing"
	"warthesis/internal/record/hurts"
	"warthesis/internal/record/rulelists"
	"warthesis/internal/record/unheld"
	"warthesis/internal/rule"
)

// Bans are the digests that must not be here.
func (v View) Bans() bans.Bans { return bans.Bans{DB: v.db} }

// Hurts are the files that are not what they should be.
func (v View) Hurts() hurts.Hurts { return hurts.Hurts{DB: v.db} }

// Erasing knows what goes with content that is erased.
func (v View) Erasing() erasing.Records { return erasing.Records{DB: v.db} }

// Erase takes all that a plan has, with a line in the tag log for each tag.
func (tx *Tx) Erase(p erasing.Plan, namespace int64, digests []oci.Digest, by Actor) ([]erasing.File, error) {
	tx.forget = append(tx.forget, func(c *cache) {
		c.tags.Purge()
		c.manifests.Purge()
		c.holdings.Purge()
	})
	for _, m := range p.Images {
		var err error
		for _, t := range m.Tags {
			if t.Live {
				err = errors.Join(err, tx.logTag(Repository{ID: m.RepositoryID}, t.Name, m.ID, 0, by))
			}
		}
		if err = errors.Join(err, tx.Unheld().Drop(m.ID)); err != nil {
			return nil, err
		}
	}
	return tx.Erasing().Take(namespace, digests)
}

// Unheld finds what nothing needs any more.
func (v View) Unheld() unheld.Records { return unheld.Records{DB: v.db} }

// Terms are by what things count as not needed now, with a grace.
func (s *Store) Terms(grace time.Duration) unheld.Terms {
	settings := s.Rights().Settings()
	return unheld.Terms{Served: int64(s.clock.Served()), Grace: int64(grace), Window: int64(settings.RestoreWindow), Floor: int64(settings.floor())}
}

// PlanUnheld plans what goes on one snapshot of the records; one plan is made at a time.
func (s *Store) PlanUnheld(ctx context.Context, terms unheld.Terms, breathe func() error, each func(found []byte) error) (sums unheld.Sums, err error) {
	if err := s.plan.WithContext(ctx).Exec("PRAGMA temp_store = MEMORY").Error; err != nil {
		return sums, err
	}
	return sums, s.plan.WithContext(ctx).Transaction(func(db *gorm.DB) (err error) {
		sums, err = unheld.Make(db, terms, breathe, each)
		return err
	})
}

// ForgetHoldings lets readers see that holdings were taken.
func (tx *Tx) ForgetHoldings(taken []unheld.Key, digests map[unheld.Key]oci.Digest) {
	tx.forget = append(tx.forget, func(c *cache) {
		for _, key := range taken {
			c.holdings.Remove(contentKey{key.RepositoryID, digests[key]})
		}
	})
}

// DropPlace notes that a repository that cannot come back or, with 0, a namespace is gone
// for good, with all grants and rules in it; the row stays, for the logs.
func (tx *Tx) DropPlace(namespace, repository int64) error {
	var grants []Grant
	err := tx.db.Where("namespace_id = ? AND repository_id = ?", namespace, repository).Find(&grants).Error
	err = errors.Join(err, tx.dropGrants(grants))
	for _, kind := range []string{rule.Immutability.Name, rule.Retention.Name} {
		if list := tx.RuleLists().Remove(rulelists.Key{Kind: kind, NamespaceID: namespace, RepositoryID: repository}); !errors.Is(list, rulelists.ErrNone) {
			err = errors.Join(err, list)
		}
	}
	err = errors.Join(err, tx.db.Exec("DELETE FROM retention_waits WHERE repository_id = ?", repository).Error)
	const removal = "UPDATE removals SET over_at = ? WHERE over_at = 0 AND id IN (SELECT removal_id FROM namespaces WHERE id = ? UNION SELECT removal_id FROM repositories WHERE id = ?)"
	err = errors.Join(err, tx.db.Exec(removal, tx.Now(), namespace, repository).Error)
	const gone = " SET gone_at = ?, description = '', labels = '{}' WHERE id = ?"
	if repository == 0 {
		return errors.Join(err, tx.db.Exec("UPDATE namespaces"+gone, tx.Now(), namespace).Error)
	}
	return errors.Join(err, tx.db.Exec("UPDATE repositories"+gone, tx.Now(), repository).Error)
}
