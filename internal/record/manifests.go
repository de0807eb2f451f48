package record

import (
	"context"
	"errors"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"warthesis/internal/oci"
	"warthesis/internal/record/edges"
)

// State is where in its life a manifest is.
type State string

const (
	// StateLive: the manifest is there for readers.
	StateLive State = "live"
	// StateDeleted: it has gone for readers, keeps what it names, and can be restored.
	StateDeleted State = "deleted"
)

// Manifest is a manifest or an index of one repository, with the fields that
// lists and rules need. The bytes are content under the digest.
type Manifest struct {
	ID           int64
	RepositoryID int64
	ContentID    int64
	Digest       oci.Digest
	State        State
	// Missing counts what the manifest names and is not here, but for what the standard
	// exempts.
	Missing      int
	MediaType    string
	ArtifactType string
	// Subject is the digest the manifest refers to, or "".
	Subject oci.Digest
	// Size is that of the document, ContentSize that of all a full pull brings, in bytes.
	Size        int64
	ContentSize int64
	// Platforms are written as people do, with a space between them.
	Platforms   string
	Annotations map[string]string `gorm:"serializer:json"`
	// What ends in Served is served time in nanoseconds.
	PushedAt      Stamp
	PushedServed  int64
	PushedBy      int64
	TouchedServed int64
	// AgainServed is when it was last pushed again, 0 for never.
	AgainServed int64
	// Labels are those of the config, as its image has them.
	Labels       Labels `gorm:"serializer:json"`
	PulledAt     Stamp
	PulledServed int64
	Pulls        int64
	// UntaggedAt is since when no tag points here, 0 while one does.
	UntaggedAt     Stamp
	UntaggedServed int64
	DeletedAt      Stamp
	DeletedServed  int64
	RemovalID      int64
	// AskedServed is when somebody who may push was last told that it exists, 0 for never.
	AskedServed int64
	// Place and what follows are those of the document's file, as a Blob has them.
	Place     string `gorm:"->"`
	PlacedAt  Stamp  `gorm:"->"`
	ChangedAt Stamp  `gorm:"->"`
	Damaged   bool   `gorm:"->"`
}

// Document returns the bytes of the manifest as content.
func (m Manifest) Document() Blob {
	return Blob{ContentID: m.ContentID, Digest: m.Digest, Size: m.Size, Place: m.Place, PlacedAt: m.PlacedAt, ChangedAt: m.ChangedAt, Damaged: m.Damaged}
}

// manifestRows reads manifests with the places of their documents.
func manifestRows(db *gorm.DB) *gorm.DB {
	return db.Table("manifests").Select("manifests.*, blobs.place, blobs.placed_at, blobs.changed_at, blobs.state <> 'whole' AS damaged").Joins("JOIN blobs ON blobs.content_id = manifests.content_id")
}

// Manifest returns a live manifest by digest, or ErrNotFound.
func (s *Store) Manifest(ctx context.Context, repository int64, digest oci.Digest) (Manifest, error) {
	return cached(s.cache, s.cache.manifests, contentKey{repository, digest}, func() (Manifest, error) {
		return one[Manifest](manifestRows(s.read.WithContext(ctx)).
			Where("manifests.repository_id = ? AND manifests.digest = ? AND manifests.state = ?", repository, digest, StateLive))
	})
}

// Manifests returns those of the digests that are live manifests of the repository.
func (v View) Manifests(repository int64, digests []oci.Digest) (map[oci.Digest]Manifest, error) {
	found := make(map[oci.Digest]Manifest, len(digests))
	err := inSlices(digests, func(some []oci.Digest) error {
		var rows []Manifest
		err := manifestRows(v.db).Where("manifests.repository_id = ? AND manifests.digest IN ? AND manifests.state = ?", repository, some, StateLive).Find(&rows).Error
		for _, m := range rows {
			found[m.Digest] = m
		}
		return err
	})
	return found, err
}

// KeepManifest records a manifest with all it names, or notes that one that is
// there came again; one that was deleted is live again. The caller fills what
// describes it, has recorded its document in this change, and has seen all that it
// names; when it has moved the tags, it calls SettleTags.
func (tx *Tx) KeepManifest(repository Repository, m Manifest, document Blob, named []oci.Edge) (Manifest, error) {
	tx.forget = append(tx.forget, func(c *cache) { c.manifests.Remove(contentKey{repository.ID, m.Digest}) })
	if err := errors.Join(tx.mayKeep(repository, m.Digest, named), tx.touchRepository(repository)); err != nil {
		return m, err
	}
	m.RepositoryID, m.ContentID, m.State = repository.ID, document.ContentID, StateLive
	m.PushedAt, m.PushedServed, m.TouchedServed = tx.Now(), tx.Served(), tx.Served()
	m.Place, m.PlacedAt, m.ChangedAt, m.Damaged = document.Place, document.PlacedAt, document.ChangedAt, document.Damaged
	if m.Annotations == nil {
		m.Annotations = map[string]string{}
	}
	m.Labels = orEmpty(m.Labels)
	insert := tx.db.Clauses(clause.OnConflict{DoNothing: true}).Create(&m)
	if insert.Error != nil {
		return m, insert.Error
	}
	if insert.RowsAffected > 0 {
		return m, edges.Keep(tx.db, m.ID, m.RepositoryID, named)
	}
	there, err := one[Manifest](manifestRows(tx.db).Where("manifests.repository_id = ? AND manifests.digest = ?", repository.ID, m.Digest))
	if err != nil {
		return there, err
	}
	changed := map[string]any{"touched_served": tx.Served(), "again_served": tx.Served()}
	if there.State != StateLive {
		// What was removed and is pushed again begins anew.
		changed = map[string]any{
			"state": StateLive, "touched_served": tx.Served(), "deleted_at": 0, "deleted_served": 0, "removal_id": 0,
			"pushed_at": tx.Now(), "pushed_served": tx.Served(), "pushed_by": m.PushedBy, "untagged_at": 0, "untagged_served": 0,
		}
		there.PushedAt, there.PushedServed, there.PushedBy, there.UntaggedAt, there.UntaggedServed = tx.Now(), tx.Served(), m.PushedBy, 0, 0
	}
	there.State, there.DeletedAt, there.DeletedServed, there.RemovalID, there.TouchedServed = StateLive, 0, 0, 0, tx.Served()
	return there, tx.db.Model(&Manifest{}).Where("id = ?", there.ID).Updates(changed).Error
}

// mayKeep fails, with oci.CodeDenied, where a manifest or what it names is banned.
func (tx *Tx) mayKeep(repository Repository, digest oci.Digest, named []oci.Edge) error {
	all := []oci.Digest{digest}
	for _, e := range named {
		if e.Relation != oci.RelationSubject {
			all = append(all, e.Digest)
		}
	}
	return tx.Bans().Check(repository.NamespaceID, all...)
}

// DeleteManifest takes a live manifest, and the tags that point to it, out of
// readers' sight by a removal, and returns those tags. The rows stay. It fails with
// *seals.Sealed.
func (tx *Tx) DeleteManifest(repository Repository, m int64, digest oci.Digest, removal int64, by Actor) ([]oci.Tag, error) {
	tx.forget = append(tx.forget, func(c *cache) { c.manifests.Remove(contentKey{repository.ID, digest}) })
	var tags []tag
	if err := tx.db.Where("manifest_id = ? AND "+liveTags, m).Order("name").Find(&tags).Error; err != nil {
		return nil, err
	}
	names := make([]oci.Tag, len(tags))
	for i, t := range tags {
		names[i] = t.Name
		if err := tx.tagGoes(repository, t, removal, by); err != nil {
			return nil, err
		}
	}
	return names, errors.Join(tx.db.Model(&Manifest{}).Where("id = ?", m).
		Updates(map[string]any{"state": StateDeleted, "deleted_at": tx.Now(), "deleted_served": tx.Served(), "removal_id": removal}).Error,
		tx.letGo(repository.ID, m, digest))
}

// letGo notes since when what a manifest named, and what refers to it, is kept by that no
// more.
func (tx *Tx) letGo(repository, m int64, digest oci.Digest) error {
	var free []oci.Digest
	err := tx.db.Raw(`UPDATE manifests SET untagged_at = ?, untagged_served = ? WHERE repository_id = ? AND state = 'live' AND untagged_at <> 0
		AND (content_id IN (SELECT content_id FROM edges WHERE manifest_id = ? AND relation = 3) OR subject = ? AND subject <> '') RETURNING digest`,
		tx.Now(), tx.Served(), repository, m, digest).Scan(&free).Error
	tx.forget = append(tx.forget, func(c *cache) {
		for _, digest := range free {
			c.manifests.Remove(contentKey{repository, digest})
		}
	})
	return err
}
