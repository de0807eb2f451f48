package record

import (
	"context"

	"gorm.io/gorm/clause"

	"warthesis/internal/oci"
)

// Upload is an upload session as it can be gone on with after a restart.
type Upload struct {
	ID           string
	RepositoryID int64
	Algorithm    oci.Algorithm
	// Offset is how many bytes are on the disk for certain; State is the hash over them.
	Offset    int64
	State     []byte
	StartedAt Stamp
	// What ends in Served is served time in nanoseconds.
	StartedServed int64
	TouchedServed int64
	// AccountID is who began it, 0 for nobody.
	AccountID int64
}

// Upload returns an upload of the repository, or ErrNotFound.
func (s *Store) Upload(ctx context.Context, repository int64, id string) (Upload, error) {
	return one[Upload](s.read.WithContext(ctx).Where("id = ? AND repository_id = ?", id, repository))
}

// UploadsIdleSince returns the uploads that were last touched before the served
// time, in nanoseconds.
func (s *Store) UploadsIdleSince(ctx context.Context, served int64) ([]Upload, error) {
	var idle []Upload
	return idle, s.read.WithContext(ctx).Where("touched_served < ?", served).Find(&idle).Error
}

// KeepUpload records the point that an upload reached.
func (tx *Tx) KeepUpload(u Upload) error {
	u.TouchedServed = tx.Served()
	if u.StartedAt == 0 {
		u.StartedAt, u.StartedServed = tx.Now(), tx.Served()
	}
	if u.State == nil {
		u.State = []byte{}
	}
	return tx.db.Clauses(clause.OnConflict{
		Columns:   []clause.Column{{Name: "id"}},
		DoUpdates: clause.AssignmentColumns([]string{"offset", "state", "touched_served"}),
	}).Create(&u).Error
}

// DropUpload forgets an upload; one that is not there is no error.
func (tx *Tx) DropUpload(id string) error {
	return tx.db.Where("id = ?", id).Delete(&Upload{}).Error
}
