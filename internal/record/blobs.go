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

// holding: this repository holds that blob, or did until the holding ended.
type holding struct {
	RepositoryID int64
	BlobID       int64
	HeldAt       Stamp
	TouchedAt    int64
	EndedAt      Stamp
	EndedBy      string
}

// Blob returns what is known of content in any repository, or ErrNotFound. It
// gives no right to the content: for readers ask Holding.
func (s *Store) Blob(ctx context.Context, digest oci.Digest) (Blob, error) {
	return one[Blob](s.read.WithContext(ctx).Where("digest = ?", digest))
}

// Holding returns a blob that the repository holds, or ErrNotFound.
func (s *Store) Holding(ctx context.Context, repository int64, digest oci.Digest) (Blob, error) {
	return cached(s.cache, s.cache.holdings, contentKey{repository, digest}, func() (Blob, error) {
		return one[Blob](heldBy(s.read.WithContext(ctx), repository).Where("blobs.digest = ?", digest))
	})
}

func heldBy(db *gorm.DB, repository int64) *gorm.DB {
	return db.Model(&Blob{}).Joins("JOIN holdings ON holdings.blob_id = blobs.id AND holdings.repository_id = ? AND holdings.ended_at = 0", repository)
}

// Arrival tells whether content came with its bytes.
type Arrival bool

// Content that was placed just now, and content that was there.
const (
	Placed Arrival = true
	Known  Arrival = false
)

// KeepBlob records that the disk has the content. Of a blob that is recorded
// already, what was placed renews the time of placing.
func (tx *Tx) KeepBlob(digest oci.Digest, size int64, came Arrival) (Blob, error) {
	made := Blob{Digest: digest, Size: size, PlacedAt: tx.Now(), TouchedAt: tx.Served()}
	columns := []string{"touched_at"}
	if came == Placed {
		columns = append(columns, "placed_at", "size")
	}
	err := tx.db.Clauses(clause.OnConflict{
		Columns:   []clause.Column{{Name: "digest"}},
		DoUpdates: clause.AssignmentColumns(columns),
	}).Create(&made).Error
	if err != nil {
		return made, err
	}
	return one[Blob](tx.db.Where("digest = ?", digest))
}

// Hold records that the repository holds the blob, from now on or anew. It revives
// a holding that had ended.
func (tx *Tx) Hold(repository Repository, b Blob) error {
	return tx.db.Clauses(clause.OnConflict{
		Columns:   []clause.Column{{Name: "repository_id"}, {Name: "blob_id"}},
		DoUpdates: clause.AssignmentColumns([]string{"touched_at", "ended_at", "ended_by"}),
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

// Holders counts the repositories, of those that are seen, that hold each of the blobs.
func (v View) Holders(digests []oci.Digest, seen Seen) (map[oci.Digest]int64, error) {
	counts := make(map[oci.Digest]int64, len(digests))
	err := inSlices(digests, func(some []oci.Digest) error {
		var rows []struct {
			Digest oci.Digest
			Count  int64
		}
		err := seen.on(v.db.Table("blobs")).Select("blobs.digest, count(*) AS count").
			Joins("JOIN holdings ON holdings.blob_id = blobs.id AND holdings.ended_at = 0").
			Joins("JOIN live_repositories AS repositories ON repositories.id = holdings.repository_id").
			Where("blobs.digest IN ?", some).Group("blobs.digest").Find(&rows).Error
		for _, row := range rows {
			counts[row.Digest] = row.Count
		}
		return err
	})
	return counts, err
}

// HeldAnywhere returns the blob where the repository holds it, or, with an empty
// name, where any repository does that is seen; otherwise ErrNotFound.
func (v View) HeldAnywhere(digest oci.Digest, from oci.Name, seen Seen) (Blob, error) {
	holdings := v.db.Table("holdings").Select("1").Where("holdings.blob_id = blobs.id AND holdings.ended_at = 0").
		Joins("JOIN live_repositories AS repositories ON repositories.id = holdings.repository_id")
	if from != "" {
		holdings = holdings.Where("repositories.name = ?", from)
	}
	return one[Blob](v.db.Where("digest = ?", digest).Where("EXISTS (?)", seen.on(holdings)))
}

// EndHolding ends that the repository holds the blob. It fails with ErrNotFound
// where it does not.
func (tx *Tx) EndHolding(repository Repository, digest oci.Digest, by string) error {
	b, err := one[Blob](heldBy(tx.db, repository.ID).Where("blobs.digest = ?", digest))
	if err != nil {
		return err
	}
	tx.forget = append(tx.forget, func(c *cache) { c.holdings.Remove(contentKey{repository.ID, digest}) })
	return tx.db.Model(&holding{}).Where("repository_id = ? AND blob_id = ?", repository.ID, b.ID).
		Updates(map[string]any{"ended_at": tx.Now(), "ended_by": by}).Error
}

// Namers returns up to limit live manifests of the repository that name the
// digest as one of the relations.
func (v View) Namers(repository int64, digest oci.Digest, relations []oci.Relation, limit int) ([]oci.Digest, error) {
	var namers []oci.Digest
	return namers, v.db.Table("edges").Distinct("manifests.digest").
		Joins("JOIN manifests ON manifests.id = edges.manifest_id AND manifests.repository_id = ? AND manifests.state = ?", repository, StateLive).
		Where("edges.digest = ? AND edges.relation IN ?", digest, relations).
		Order("manifests.digest").Limit(limit).Pluck("manifests.digest", &namers).Error
}
