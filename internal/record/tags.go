package record

import (
	"context"
	"errors"

	"warthesis/internal/oci"
)

// tag is a tag of a repository.
type tag struct {
	ID           int64
	RepositoryID int64
	Name         oci.Tag
	ManifestID   int64
	MovedAt      Stamp
	MovedBy      string
	PulledAt     Stamp
	Pulls        int64
}

// tagMove is one line of the tag log.
type tagMove struct {
	ID           int64
	RepositoryID int64
	Tag          oci.Tag
	// Digest is what the tag points to since, "" where it was deleted.
	Digest oci.Digest
	// Previous is what the tag pointed to before, "" for a new tag.
	Previous oci.Digest
	MovedAt  Stamp
	MovedBy  string
}

// TagTarget returns the digest that a tag points to, or ErrNotFound.
func (s *Store) TagTarget(ctx context.Context, repository int64, name oci.Tag) (oci.Digest, error) {
	return cached(s.cache, s.cache.tags, tagKey{repository, name}, func() (oci.Digest, error) {
		m, err := one[Manifest](s.read.WithContext(ctx).
			Joins("JOIN tags ON tags.manifest_id = manifests.id AND tags.repository_id = ? AND tags.name = ?", repository, name).
			Where("manifests.state = ?", StateLive))
		return m.Digest, err
	})
}

// MoveTag points a tag at a manifest of its repository, makes it where it is
// missing, and writes the tag log. A tag that points there already is left alone,
// and moved is false.
func (tx *Tx) MoveTag(repository Repository, name oci.Tag, to Manifest, by string) (moved bool, err error) {
	now := tx.Now()
	move := tagMove{RepositoryID: repository.ID, Tag: name, Digest: to.Digest, MovedAt: now, MovedBy: by}
	there, err := one[tag](tx.db.Where("repository_id = ? AND name = ?", repository.ID, name))
	switch {
	case errors.Is(err, ErrNotFound):
		err = tx.db.Create(&tag{RepositoryID: repository.ID, Name: name, ManifestID: to.ID, MovedAt: now, MovedBy: by}).Error
	case err != nil:
		return false, err
	case there.ManifestID == to.ID:
		return false, nil
	default:
		var before Manifest
		if before, err = one[Manifest](tx.db.Where("id = ?", there.ManifestID)); err != nil {
			return false, err
		}
		move.Previous = before.Digest
		err = tx.db.Model(&there).Updates(map[string]any{"manifest_id": to.ID, "moved_at": now, "moved_by": by}).Error
	}
	if err != nil {
		return false, err
	}
	tx.forget = append(tx.forget, func(c *cache) { c.tags.Remove(tagKey{repository.ID, name}) })
	return true, tx.db.Create(&move).Error
}

// DeleteTag removes a tag and writes the tag log, from which it can be restored.
// It fails with ErrNotFound where there is no such tag.
func (tx *Tx) DeleteTag(repository Repository, name oci.Tag, by string) error {
	there, err := one[tag](tx.db.Where("repository_id = ? AND name = ?", repository.ID, name))
	if err != nil {
		return err
	}
	pointed, err := one[Manifest](tx.db.Where("id = ?", there.ManifestID))
	if err != nil {
		return err
	}
	tx.forget = append(tx.forget, func(c *cache) { c.tags.Remove(tagKey{repository.ID, name}) })
	if err := tx.db.Delete(&there).Error; err != nil {
		return err
	}
	return tx.db.Create(&tagMove{
		RepositoryID: repository.ID, Tag: name, Previous: pointed.Digest, MovedAt: tx.Now(), MovedBy: by,
	}).Error
}
