package record

import (
	"context"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"warthesis/internal/oci"
)

// Blob is content that the disk has, by digest. A row vouches for the file.
type Blob struct {
	ID       int64
	Digest   oci.Digest
	Size     int64
	PlacedAt Stamp
	// TouchedAt is served time in nanoseconds.
	TouchedAt int64
}

// holding: this repository holds that blob.
type holding struct {
	RepositoryID int64
	BlobID       int64
	HeldAt       Stamp
	TouchedAt    int64
}

// Blob returns what is known of content in any repository, or ErrNotFound. It
// gives no right to the content: for readers ask Holding.
func (s *Store) Blob(ctx context.Context, digest oci.Digest) (Blob, error) {
	return one[Blob](s.read.WithContext(ctx).Where("digest = ?", digest))
}

// Holding returns the size in bytes of a blob that the repository holds, or ErrNotFound.
func (s *Store) Holding(ctx context.Context, repository int64, digest oci.Digest) (int64, error) {
	return cached(s.cache, s.cache.holdings, contentKey{repository, digest}, func() (int64, error) {
		b, err := one[Blob](heldBy(s.read.WithContext(ctx), repository).Where("blobs.digest = ?", digest))
		return b.Size, err
	})
}

func heldBy(db *gorm.DB, repository int64) *gorm.DB {
	return db.Model(&Blob{}).Joins("JOIN holdings ON holdings.blob_id = blobs.id AND holdings.repository_id = ?", repository)
}

// KeepBlob records that the disk has the content. A blob that is known already stays as it is.
func (tx *Tx) KeepBlob(digest oci.Digest, size int64) (Blob, error) {
	made := Blob{Digest: digest, Size: size, PlacedAt: tx.Now(), TouchedAt: tx.Served()}
	err := tx.db.Clauses(clause.OnConflict{
		Columns:   []clause.Column{{Name: "digest"}},
		DoUpdates: clause.AssignmentColumns([]string{"touched_at"}),
	}).Create(&made).Error
	if err != nil {
		return made, err
	}
	return one[Blob](tx.db.Where("digest = ?", digest))
}

// Hold records that the repository holds the blob, from now on or anew.
func (tx *Tx) Hold(repository Repository, b Blob) error {
	return tx.db.Clauses(clause.OnConflict{
		Columns:   []clause.Column{{Name: "repository_id"}, {Name: "blob_id"}},
		DoUpdates: clause.AssignmentColumns([]string{"touched_at"}),
	}).Create(&holding{RepositoryID: repository.ID, BlobID: b.ID, HeldAt: tx.Now(), TouchedAt: tx.Served()}).Error
}

// Held returns the sizes of those of the digests that the repository holds.
func (v View) Held(repository int64, digests []oci.Digest) (map[oci.Digest]int64, error) {
	sizes := make(map[oci.Digest]int64, len(digests))
	err := inSlices(digests, func(some []oci.Digest) error {
		var rows []Blob
		if err := heldBy(v.db, repository).Where("blobs.digest IN ?", some).Find(&rows).Error; err != nil {
			return err
		}
		for _, b := range rows {
			sizes[b.Digest] = b.Size
		}
		return nil
	})
	return sizes, err
}

// sliceLength keeps lists of values well below what one statement may carry.
const sliceLength = 500

func inSlices[T any](all []T, each func([]T) error) error {
	for start := 0; start < len(all); start += sliceLength {
		if err := each(all[start:min(start+sliceLength, len(all))]); err != nil {
			return err
		}
	}
	return nil
}

// Holders counts the repositories that hold each of the blobs.
func (v View) Holders(digests []oci.Digest) (map[oci.Digest]int64, error) {
	counts := make(map[oci.Digest]int64, len(digests))
	err := inSlices(digests, func(some []oci.Digest) error {
		var rows []struct {
			Digest oci.Digest
			Count  int64
		}
		err := v.db.Table("blobs").Select("blobs.digest, count(*) AS count").
			Joins("JOIN holdings ON holdings.blob_id = blobs.id").
			Where("blobs.digest IN ?", some).Group("blobs.digest").Find(&rows).Error
		for _, row := range rows {
			counts[row.Digest] = row.Count
		}
		return err
	})
	return counts, err
}

// HeldAnywhere returns the blob where the repository holds it, or, with an empty
// name, where any repository does; otherwise ErrNotFound.
func (v View) HeldAnywhere(digest oci.Digest, from oci.Name) (Blob, error) {
	holdings := v.db.Table("holdings").Select("1").Where("holdings.blob_id = blobs.id")
	if from != "" {
		holdings = holdings.Joins("JOIN repositories ON repositories.id = holdings.repository_id").Where("repositories.name = ?", from)
	}
	return one[Blob](v.db.Where("digest = ?", digest).Where("EXISTS (?)", holdings))
}
