// Package pulls counts what was pulled.
package pulls

import (
	"gorm.io/gorm"

	"warthesis/internal/oci"
	"warthesis/internal/record/stamp"
)

// Pull counts the pulls of one manifest, by tag or, with an empty tag, by digest.
type Pull struct {
	Repository int64
	Digest     oci.Digest
	Tag        oci.Tag
	Count      int64
	// Last is the latest of them, LastServed the same in served time, in nanoseconds.
	Last       stamp.Stamp
	LastServed int64
}

// Records are the records in a change.
type Records struct{ DB *gorm.DB }

// Count adds pulls to their manifests, tags and repositories. What went
// meanwhile is passed over.
func (r Records) Count(pulls []Pull) error {
	db := r.DB
	for _, p := range pulls {
		counted := map[string]any{
			"pulls": gorm.Expr("pulls + ?", p.Count), "pulled_at": gorm.Expr("max(pulled_at, ?)", p.Last),
			"pulled_served": gorm.Expr("max(pulled_served, ?)", p.LastServed),
		}
		if err := db.Table("manifests").Where("repository_id = ? AND digest = ?", p.Repository, p.Digest).Updates(counted).Error; err != nil {
			return err
		}
		if err := db.Table("repositories").Where("id = ?", p.Repository).Updates(counted).Error; err != nil {
			return err
		}
		if p.Tag == "" {
			continue
		}
		if err := db.Table("tags").Where("repository_id = ? AND name = ? AND removal_id = 0", p.Repository, p.Tag).Updates(counted).Error; err != nil {
			return err
		}
	}
	return nil
}
