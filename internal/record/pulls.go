package record

import (
	"gorm.io/gorm"

	"warthesis/internal/oci"
)

// Pull counts the pulls of one manifest, by tag or, with an empty tag, by digest.
type Pull struct {
	Repository int64
	Digest     oci.Digest
	Tag        oci.Tag
	Count      int64
	// Last is the latest of them, LastServed the same in served time, in nanoseconds.
	Last       Stamp
	LastServed int64
}

// CountPulls adds pulls to their manifests, tags and repositories. What went
// meanwhile is passed over.
func (tx *Tx) CountPulls(pulls []Pull) error {
	for _, p := range pulls {
		counted := map[string]any{
			"pulls": gorm.Expr("pulls + ?", p.Count), "pulled_at": gorm.Expr("max(pulled_at, ?)", p.Last),
			"pulled_served": gorm.Expr("max(pulled_served, ?)", p.LastServed),
		}
		if err := tx.db.Model(&Manifest{}).Where("repository_id = ? AND digest = ?", p.Repository, p.Digest).Updates(counted).Error; err != nil {
			return err
		}
		if err := tx.db.Model(&Repository{}).Where("id = ?", p.Repository).Updates(counted).Error; err != nil {
			return err
		}
		if p.Tag == "" {
			continue
		}
		if err := tx.db.Model(&tag{}).Where("repository_id = ? AND name = ? AND "+liveTags, p.Repository, p.Tag).Updates(counted).Error; err != nil {
			return err
		}
	}
	return nil
}
