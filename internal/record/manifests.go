package record

import (
	"context"
	"encoding/json"

	"gorm.io/gorm/clause"

	"warthesis/internal/oci"
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
	BlobID       int64
	Digest       oci.Digest
	State        State
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
	PushedAt    Stamp
	PushedBy    string
	TouchedAt   int64
	PulledAt    Stamp
	Pulls       int64
	DeletedAt   Stamp
	DeletedBy   string
}

// Manifest returns a live manifest by digest, or ErrNotFound.
func (s *Store) Manifest(ctx context.Context, repository int64, digest oci.Digest) (Manifest, error) {
	return cached(s.cache, s.cache.manifests, contentKey{repository, digest}, func() (Manifest, error) {
		return one[Manifest](s.read.WithContext(ctx).
			Where("repository_id = ? AND digest = ? AND state = ?", repository, digest, StateLive))
	})
}

// Manifests returns those of the digests that are live manifests of the repository.
func (v View) Manifests(repository int64, digests []oci.Digest) (map[oci.Digest]Manifest, error) {
	found := make(map[oci.Digest]Manifest, len(digests))
	err := inSlices(digests, func(some []oci.Digest) error {
		var rows []Manifest
		err := v.db.Where("repository_id = ? AND digest IN ? AND state = ?", repository, some, StateLive).Find(&rows).Error
		for _, m := range rows {
			found[m.Digest] = m
		}
		return err
	})
	return found, err
}

// KeepManifest records a manifest with all it names, or notes that one that is
// there came again. The caller fills what describes it and has seen, in this
// change, all that it names.
func (tx *Tx) KeepManifest(repository Repository, m Manifest, edges []oci.Edge, came Arrival) (Manifest, error) {
	content, err := tx.KeepBlob(m.Digest, m.Size, came)
	if err != nil {
		return m, err
	}
	m.RepositoryID, m.BlobID, m.State = repository.ID, content.ID, StateLive
	m.PushedAt, m.TouchedAt = tx.Now(), tx.Served()
	if m.Annotations == nil {
		m.Annotations = map[string]string{}
	}
	tx.forget = append(tx.forget, func(c *cache) { c.manifests.Remove(contentKey{repository.ID, m.Digest}) })
	if err := tx.touchRepository(repository); err != nil {
		return m, err
	}
	insert := tx.db.Clauses(clause.OnConflict{DoNothing: true}).Create(&m)
	if insert.Error != nil {
		return m, insert.Error
	}
	if insert.RowsAffected == 0 {
		if err := tx.db.Model(&Manifest{}).Where("repository_id = ? AND digest = ?", repository.ID, m.Digest).
			Updates(map[string]any{"state": StateLive, "touched_at": m.TouchedAt, "deleted_at": 0, "deleted_by": ""}).Error; err != nil {
			return m, err
		}
		return one[Manifest](tx.db.Where("repository_id = ? AND digest = ?", repository.ID, m.Digest))
	}
	return m, tx.keepEdges(m.ID, edges)
}

// keepEdges records all that a manifest names in one statement, whose values come as
// one text: so thousands of them hold the writer for some milliseconds alone.
func (tx *Tx) keepEdges(manifest int64, edges []oci.Edge) error {
	if len(edges) == 0 {
		return nil
	}
	rows := make([][4]any, len(edges))
	for i, e := range edges {
		rows[i] = [4]any{e.Relation, e.Digest, e.Size, e.MediaType}
	}
	raw, err := json.Marshal(rows)
	if err != nil {
		return err
	}
	return tx.db.Exec(`INSERT INTO edges (manifest_id, position, relation, digest, size, media_type)
		SELECT ?, key, value ->> 0, value ->> 1, value ->> 2, value ->> 3 FROM json_each(?)`, manifest, string(raw)).Error
}

// DeleteManifest takes a live manifest and the tags that point to it out of
// readers' sight, and returns those tags. The rows stay.
func (tx *Tx) DeleteManifest(repository Repository, m Manifest, by string) ([]oci.Tag, error) {
	tx.forget = append(tx.forget, func(c *cache) { c.manifests.Remove(contentKey{repository.ID, m.Digest}) })
	var tags []oci.Tag
	if err := tx.db.Model(&tag{}).Where("manifest_id = ?", m.ID).Order("name").Pluck("name", &tags).Error; err != nil {
		return nil, err
	}
	for _, name := range tags {
		if err := tx.DeleteTag(repository, name, by); err != nil {
			return nil, err
		}
	}
	return tags, tx.db.Model(&Manifest{}).Where("id = ?", m.ID).
		Updates(map[string]any{"state": StateDeleted, "deleted_at": tx.Now(), "deleted_by": by}).Error
}
