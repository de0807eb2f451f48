package record

import (
	"context"
	"errors"

	"warthesis/internal/oci"
	"warthesis/internal/record/taglog"
	"warthesis/internal/record/tagnames"
	"warthesis/internal/rule"
)

// tag is a tag of a repository; one with a removal is gone.
type tag struct {
	ID           int64
	RepositoryID int64
	Name         oci.Tag
	// OrderKey sorts versions, and before them all others in natural order.
	OrderKey     []byte
	ManifestID   int64
	MovedAt      Stamp
	MovedServed  int64
	MovedBy      int64
	PulledAt     Stamp
	PulledServed int64
	Pulls        int64
	RemovalID    int64
	FirstServed  int64
	SealedAt     Stamp
	SealedBy     int64
	SealReason   string
}

// liveTags keeps the tags that are not gone.
const liveTags = "tags.removal_id = 0"

// TagTarget returns the digest that a tag points to, or ErrNotFound.
func (s *Store) TagTarget(ctx context.Context, repository int64, name oci.Tag) (oci.Digest, error) {
	return cached(s.cache, s.cache.tags, tagKey{repository, name}, func() (oci.Digest, error) {
		var found []oci.Digest
		err := s.read.WithContext(ctx).Table("tags").
			Joins("JOIN manifests ON manifests.id = tags.manifest_id AND manifests.state = ?", StateLive).
			Where("tags.repository_id = ? AND tags.name = ? AND "+liveTags, repository, name).Pluck("manifests.digest", &found).Error
		if err == nil && len(found) == 0 {
			err = ErrNotFound
		}
		if err != nil {
			return "", err
		}
		return found[0], nil
	})
}

// TagTarget returns the digest that a tag points to, as the change sees it, or "" where
// there is no such tag.
func (v View) TagTarget(repository int64, name oci.Tag) (digest oci.Digest, err error) {
	return digest, v.db.Raw("SELECT manifests.digest FROM tags JOIN manifests ON manifests.id = tags.manifest_id WHERE tags.repository_id = ? AND tags.name = ? AND "+liveTags,
		repository, name).Scan(&digest).Error
}

// TagNames are the names that tags of a repository ever had, seen at served time in
// nanoseconds.
func (v View) TagNames(repository, served int64) tagnames.Names {
	return tagnames.Names{DB: v.db, RepositoryID: repository, Served: served}
}

// liveTag returns a tag that is not gone, or ErrNotFound.
func (tx *Tx) liveTag(repository int64, name oci.Tag) (tag, error) {
	return one[tag](tx.db.Where("repository_id = ? AND name = ? AND "+liveTags, repository, name))
}

// MoveTag points a tag at a manifest of its repository, makes it where it is
// missing, and writes the tag log. A tag that points there already stays, as pushed
// again, and moved is false. It fails with tagnames.HeldError, with
// *seals.Sealed and with *quota.Exceeded.
func (tx *Tx) MoveTag(repository Repository, name oci.Tag, to Manifest, by Actor) (moved bool, err error) {
	there, err := tx.liveTag(repository.ID, name)
	switch {
	case errors.Is(err, ErrNotFound):
		first, err := tx.TagNames(repository.ID, tx.Served()).Use(name, by.Account)
		if err != nil {
			return false, err
		}
		if err := tx.refused(repository, by, 1, tx.db.Create(&tag{
			RepositoryID: repository.ID, Name: name, OrderKey: rule.OrderKey(string(name)), FirstServed: first,
			ManifestID: to.ID, MovedAt: tx.Now(), MovedServed: tx.Served(), MovedBy: by.Account,
		}).Error); err != nil {
			return false, err
		}
	case err != nil:
		return false, err
	case there.ManifestID == to.ID:
		return false, tx.db.Model(&tag{}).Where("id = ?", there.ID).Update("pushed_served", tx.Served()).Error
	default:
		if err := tx.mayGo(repository, there); err != nil {
			return false, err
		}
		if err := tx.db.Model(&tag{}).Where("id = ?", there.ID).
			Updates(map[string]any{"manifest_id": to.ID, "moved_at": tx.Now(), "moved_served": tx.Served(), "moved_by": by.Account}).Error; err != nil {
			return false, err
		}
	}
	tx.forget = append(tx.forget, func(c *cache) { c.tags.Remove(tagKey{repository.ID, name}) })
	if err := errors.Join(tx.untagged(there.ManifestID), tx.tagged(to)); err != nil {
		return false, err
	}
	return true, tx.logTag(repository, name, there.ManifestID, to.ID, by)
}

// logTag writes a line of the tag log; a manifest of 0 is none.
func (tx *Tx) logTag(repository Repository, name oci.Tag, from, to int64, by Actor) error {
	return tx.TagLog(repository.ID).Write(taglog.Move{
		Tag: name, MovedAt: int64(tx.Now()), MovedServed: tx.Served(), MovedBy: by.Account, Token: by.Token, Origin: by.Origin,
	}, from, to)
}

// untagged notes since when no tag points to a manifest, where none does.
func (tx *Tx) untagged(manifest int64) error {
	if manifest == 0 {
		return nil
	}
	return tx.db.Exec(`UPDATE manifests SET untagged_at = ?, untagged_served = ?
		WHERE id = ? AND NOT EXISTS (SELECT 1 FROM tags WHERE tags.manifest_id = manifests.id AND `+liveTags+`)`, tx.Now(), tx.Served(), manifest).Error
}

// tagged notes that a tag points to a manifest.
func (tx *Tx) tagged(m Manifest) error {
	if m.UntaggedAt == 0 {
		return nil
	}
	tx.forget = append(tx.forget, func(c *cache) { c.manifests.Remove(contentKey{m.RepositoryID, m.Digest}) })
	return tx.db.Exec("UPDATE manifests SET untagged_at = 0, untagged_served = 0 WHERE id = ?", m.ID).Error
}

// SettleTags notes since when no tag points to a manifest that came, where none does.
func (tx *Tx) SettleTags(m Manifest) error {
	if m.UntaggedAt != 0 {
		return nil
	}
	return tx.untagged(m.ID)
}

// RenameTag gives a tag another name, with its counts, and writes the log of both. It
// fails with ErrNotFound where there is no such tag, and with ErrTaken where there is one
// of the other name, tagnames.HeldError, or *seals.Sealed.
func (tx *Tx) RenameTag(repository Repository, name, to oci.Tag, by Actor) error {
	there, err := tx.liveTag(repository.ID, name)
	if err != nil {
		return err
	}
	switch _, err := tx.liveTag(repository.ID, to); {
	case err == nil:
		return ErrTaken
	case !errors.Is(err, ErrNotFound):
		return err
	}
	if err := tx.mayGo(repository, there); err != nil {
		return err
	}
	first, err := tx.TagNames(repository.ID, tx.Served()).Use(to, by.Account)
	if err != nil {
		return err
	}
	for _, n := range []oci.Tag{name, to} {
		tx.forget = append(tx.forget, func(c *cache) { c.tags.Remove(tagKey{repository.ID, n}) })
	}
	return errors.Join(
		tx.db.Model(&tag{}).Where("id = ?", there.ID).Updates(map[string]any{
			"name": to, "order_key": rule.OrderKey(string(to)), "first_served": first, "moved_at": tx.Now(), "moved_served": tx.Served(), "moved_by": by.Account,
		}).Error,
		tx.logTag(repository, name, there.ManifestID, 0, by), tx.logTag(repository, to, 0, there.ManifestID, by))
}

// DeleteTag removes a tag by a removal and writes the tag log; its row stays, as gone. It
// fails with ErrNotFound where there is no such tag, and with *seals.Sealed.
func (tx *Tx) DeleteTag(repository Repository, name oci.Tag, removal int64, by Actor) error {
	there, err := tx.liveTag(repository.ID, name)
	if err != nil {
		return err
	}
	return errors.Join(tx.tagGoes(repository, there, removal, by), tx.untagged(there.ManifestID))
}

// tagGoes lets a tag go by a removal. It fails with *seals.Sealed.
func (tx *Tx) tagGoes(repository Repository, t tag, removal int64, by Actor) error {
	if err := tx.mayGo(repository, t); err != nil {
		return err
	}
	tx.forget = append(tx.forget, func(c *cache) { c.tags.Remove(tagKey{repository.ID, t.Name}) })
	if err := tx.db.Model(&tag{}).Where("id = ?", t.ID).Update("removal_id", removal).Error; err != nil {
		return err
	}
	return tx.logTag(repository, t.Name, t.ManifestID, 0, by)
}
