package record

import (
	"context"
	"errors"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"warthesis/internal/oci"
	"warthesis/internal/record/edges"
)

// Blob is content that a store has, by digest. A row vouches for the file at its
// place, and there is one place for a digest.
type Blob struct {
	// ContentID numbers the digest.
	ContentID int64
	Digest    oci.Digest
	// Size is in bytes.
	Size int64
	// Place is what the file's name has behind the digest; files of old records have
	// nothing there.
	Place    string
	PlacedAt Stamp
	// ChangedAt is the change time of the file at which its content was known to be right,
	// 0 where it is not known.
	ChangedAt Stamp
	// TouchedServed is served time in nanoseconds.
	TouchedServed int64
	// Damaged tells that the file was found damaged: it is not read again.
	Damaged bool
}

// blobRows reads blobs.
func blobRows(db *gorm.DB) *gorm.DB {
	return db.Table("blobs").Joins("JOIN contents ON contents.id = blobs.content_id").
		Select("blobs.content_id, contents.digest, blobs.size, blobs.place, blobs.placed_at, blobs.changed_at, blobs.touched_served, blobs.state <> 'whole' AS damaged")
}

// holding: this repository holds that blob, or did until the holding ended.
type holding struct {
	RepositoryID  int64
	ContentID     int64
	HeldAt        Stamp
	HeldBy        int64
	TouchedServed int64
	EndedAt       Stamp
	EndedServed   int64
	RemovalID     int64
}

// Blob returns what is known of content in any repository, as of the last commit, or
// ErrNotFound. It gives no right to the content: for readers ask Holding.
func (v View) Blob(digest oci.Digest) (Blob, error) {
	return one[Blob](blobRows(v.db).Where("contents.digest = ?", digest))
}

// Holding returns a blob that the repository holds, or ErrNotFound.
func (s *Store) Holding(ctx context.Context, repository int64, digest oci.Digest) (Blob, error) {
	return cached(s.cache, s.cache.holdings, contentKey{repository, digest}, func() (Blob, error) {
		return one[Blob](heldBy(s.read.WithContext(ctx), repository).Where("contents.digest = ?", digest))
	})
}

func heldBy(db *gorm.DB, repository int64) *gorm.DB {
	return blobRows(db).Joins("JOIN holdings ON holdings.content_id = blobs.content_id AND holdings.repository_id = ? AND holdings.ended_at = 0", repository)
}

// Placing is content that a store has got.
type Placing struct {
	Digest oci.Digest
	Size   int64
	Place  string
	// ChangedAt is the change time of the file.
	ChangedAt Stamp
	// Damaged is the content as it was recorded when its file was found damaged, nil
	// for none: the new place takes the turn of that one.
	Damaged *Blob
}

// KeepBlob records that the store has the content, and returns what is recorded then:
// where the digest has another place already, which is not the one that was found
// damaged, that one stays, and the caller takes what it placed.
func (tx *Tx) KeepBlob(p Placing) (Blob, error) {
	if err := tx.Bans().Check(0, p.Digest); err != nil {
		return Blob{}, err
	}
	id, made, err := tx.contentID(p.Digest)
	if err != nil {
		return Blob{}, err
	}
	there, err := Blob{}, ErrNotFound
	if !made {
		there, err = tx.Blob(p.Digest)
	}
	switch {
	case errors.Is(err, ErrNotFound):
		return tx.addBlob(id, p)
	case err != nil:
		return there, err
	case p.Damaged == nil || p.Damaged.Place != there.Place:
		return there, tx.touchBlob(&there)
	}
	return tx.replace(there, p)
}

// replace gives content that is damaged another place.
func (tx *Tx) replace(there Blob, p Placing) (Blob, error) {
	if mended, err := tx.Hurts().Mend(there.Digest, tx.Now()); err != nil {
		return there, err
	} else if mended {
		if err := tx.Log(Event{Kind: EventContentMended, Digest: there.Digest, Detail: "a good copy of it came"}); err != nil {
			return there, err
		}
	}
	there.Place, there.PlacedAt, there.ChangedAt, there.TouchedServed, there.Damaged = p.Place, tx.Now(), p.ChangedAt, tx.Served(), false
	// It may be held in any number of repositories.
	tx.forget = append(tx.forget, func(c *cache) {
		c.holdings.Purge()
		c.manifests.Purge()
	})
	return there, tx.db.Exec("UPDATE blobs SET place = ?, state = 'whole', placed_at = ?, changed_at = ?, touched_served = ?, read_at = ?, read_served = ? WHERE content_id = ?",
		there.Place, there.PlacedAt, there.ChangedAt, there.TouchedServed, there.PlacedAt, there.TouchedServed, there.ContentID).Error
}

func (tx *Tx) addBlob(id int64, p Placing) (Blob, error) {
	b := Blob{ContentID: id, Digest: p.Digest, Size: p.Size, Place: p.Place, PlacedAt: tx.Now(), ChangedAt: p.ChangedAt, TouchedServed: tx.Served()}
	return b, tx.db.Exec("INSERT INTO blobs (content_id, size, place, placed_at, changed_at, touched_served, read_at, read_served) VALUES (?, ?, ?, ?, ?, ?, ?, ?)",
		id, b.Size, b.Place, b.PlacedAt, b.ChangedAt, b.TouchedServed, b.PlacedAt, b.TouchedServed).Error
}

// SetDamaged notes that the file of content is not what it should be; it is served no more.
func (tx *Tx) SetDamaged(content int64) error {
	tx.forget = append(tx.forget, func(c *cache) {
		c.holdings.Purge()
		c.manifests.Purge()
	})
	return tx.Unheld().SetHurt(content)
}

// contentID returns the number of a digest, and gives it one where it has none.
func (tx *Tx) contentID(digest oci.Digest) (id int64, made bool, err error) {
	if err := tx.db.Raw("SELECT id FROM contents WHERE digest = ?", digest).Scan(&id).Error; err != nil || id != 0 {
		return id, false, err
	}
	err = tx.db.Raw("INSERT INTO contents (digest) VALUES (?) RETURNING id", digest).Scan(&id).Error
	return id, true, err
}

// TouchBlob notes that content came which is there already, and was looked at. It
// fails with ErrNotFound where it is not recorded at that place any more.
func (tx *Tx) TouchBlob(seen Blob) (Blob, error) {
	there, err := tx.Blob(seen.Digest)
	if err == nil && there.Place != seen.Place {
		err = ErrNotFound
	}
	if err != nil {
		return there, err
	}
	return there, tx.touchBlob(&there)
}

func (tx *Tx) touchBlob(b *Blob) error {
	b.TouchedServed = tx.Served()
	return tx.db.Exec("UPDATE blobs SET touched_served = ? WHERE content_id = ?", b.TouchedServed, b.ContentID).Error
}

// Hold records that the repository holds the blob, from now on or anew. It revives
// a holding that had ended. It fails with *quota.Exceeded.
func (tx *Tx) Hold(repository Repository, b Blob, by Actor) error {
	if err := tx.Bans().Check(repository.NamespaceID, b.Digest); err != nil {
		return err
	}
	return tx.refused(repository, by, b.Size, tx.db.Clauses(clause.OnConflict{
		Columns:   []clause.Column{{Name: "repository_id"}, {Name: "content_id"}},
		DoUpdates: clause.AssignmentColumns([]string{"touched_served", "ended_at", "ended_served", "removal_id"}),
	}).Create(&holding{RepositoryID: repository.ID, ContentID: b.ContentID, HeldAt: tx.Now(), HeldBy: by.Account, TouchedServed: tx.Served()}).Error)
}

// Held returns the sizes of those of the digests that the repository holds.
func (v View) Held(repository int64, digests []oci.Digest) (map[oci.Digest]int64, error) {
	sizes := make(map[oci.Digest]int64, len(digests))
	err := inSlices(digests, func(some []oci.Digest) error {
		var rows []Blob
		if err := heldBy(v.db, repository).Where("contents.digest IN ?", some).Find(&rows).Error; err != nil {
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

// HeldAnywhere returns the blob where the repository holds it, or, with an empty
// name, where any repository does that is seen; otherwise ErrNotFound.
func (v View) HeldAnywhere(digest oci.Digest, from oci.Name, seen Seen) (Blob, error) {
	holdings := v.db.Table("holdings").Select("1").Where("holdings.content_id = blobs.content_id AND holdings.ended_at = 0").
		Joins("JOIN live_repositories AS repositories ON repositories.id = holdings.repository_id")
	if from != "" {
		holdings = holdings.Where("repositories.name = ?", from)
	}
	return one[Blob](blobRows(v.db).Where("contents.digest = ?", digest).Where("EXISTS (?)", seen.On(holdings)))
}

// EndHolding ends, as a removal, that the repository holds the blob. It fails with
// ErrNotFound where it does not.
func (tx *Tx) EndHolding(repository Repository, digest oci.Digest, by Actor) error {
	b, err := one[Blob](heldBy(tx.db, repository.ID).Where("contents.digest = ?", digest))
	if err != nil {
		return err
	}
	removal, err := tx.BeginRemoval(RemovalOfBlob, repository, string(digest), by)
	if err != nil {
		return err
	}
	tx.forget = append(tx.forget, func(c *cache) { c.holdings.Remove(contentKey{repository.ID, digest}) })
	return tx.db.Model(&holding{}).Where("repository_id = ? AND content_id = ?", repository.ID, b.ContentID).
		Updates(map[string]any{"ended_at": tx.Now(), "ended_served": tx.Served(), "removal_id": removal}).Error
}

// Namers returns up to limit live manifests of the repository that name the
// digest as one of the relations.
func (v View) Namers(repository int64, digest oci.Digest, relations []oci.Relation, limit int) ([]oci.Digest, error) {
	var namers []oci.Digest
	return namers, v.db.Table("edges").Distinct("manifests.digest").
		Joins("JOIN manifests ON manifests.id = edges.manifest_id AND manifests.state = ?", StateLive).
		Where("edges.content_id = (SELECT id FROM contents WHERE digest = ?) AND edges.repository_id = ? AND edges.relation IN ?", digest, repository, edges.Numbers(relations)).
		Order("manifests.digest").Limit(limit).Pluck("manifests.digest", &namers).Error
}
