// Package unheld finds what nothing needs any more.
package unheld

import "gorm.io/gorm"

// Records are the records as of the last commit.
type Records struct{ DB *gorm.DB }

// Key names a holding: a repository and the number of a content.
type Key struct {
	RepositoryID int64
	ContentID    int64
}

// Holdings returns up to limit holdings, behind after in the order of their
// keys, that no manifest of their repository names, live or deleted, and that were
// last touched before the served time, in nanoseconds.
func (r Records) Holdings(before int64, after Key, limit int) ([]Key, error) {
	var found []Key
	return found, r.DB.Table("holdings").Select("repository_id, content_id").
		Where("(repository_id, content_id) > (?, ?) AND ended_at = 0 AND touched_served < ?", after.RepositoryID, after.ContentID, before).
		Where("NOT EXISTS (SELECT 1 FROM edges WHERE edges.content_id = holdings.content_id AND edges.repository_id = holdings.repository_id)").
		Order("repository_id, content_id").Limit(limit).Find(&found).Error
}

// Blobs returns the numbers of up to limit contents, behind after in order, that a
// store has, that no holding and no manifest needs, ended and deleted ones included,
// and that were last touched before the served time, in nanoseconds.
func (r Records) Blobs(before, after int64, limit int) ([]int64, error) {
	var found []int64
	return found, r.DB.Table("blobs").Where("content_id > ? AND touched_served < ?", after, before).
		Where("NOT EXISTS (SELECT 1 FROM holdings WHERE holdings.content_id = blobs.content_id)").
		Where("NOT EXISTS (SELECT 1 FROM manifests WHERE manifests.content_id = blobs.content_id)").
		Order("content_id").Limit(limit).Pluck("content_id", &found).Error
}
