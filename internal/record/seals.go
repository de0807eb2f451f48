package record

import (
	"context"
	"errors"

	"warthesis/internal/oci"
	"warthesis/internal/record/rulelists"
	"warthesis/internal/record/seals"
)

// RuleLists are the lists of rules.
func (v View) RuleLists() rulelists.Lists {
	return rulelists.Lists{DB: v.db, Known: v.rules.Known(), Touch: v.rules.Touch}
}

// WhySealed says by which rule a tag is sealed, or by whom.
func (s *Store) WhySealed(sealed *seals.Sealed) string {
	if !sealed.ByHand() {
		return sealed.Verdict.String()
	}
	by, _ := s.Rights().Account(sealed.Tag.SealedBy)
	return seals.ByHand(by.Name, sealed.Tag.SealReason)
}

// Immutability are the immutability rules that were read.
func (v View) Immutability() *seals.Compiled { return v.sealing }

// Seals decides which tags of a repository are sealed at a moment of served time, in
// nanoseconds.
func (v View) Seals(in Repository, served int64) seals.Seals {
	return seals.Seals{Lists: v.RuleLists(), Compiled: v.sealing, NamespaceID: in.NamespaceID, RepositoryID: in.ID, Repository: in.Name, Served: served}
}

// sealOf returns what seals ask of the tag.
func (t tag) sealOf(digest oci.Digest) seals.Tag {
	return seals.Tag{Name: t.Name, Digest: digest, FirstServed: t.FirstServed, SealedAt: int64(t.SealedAt), SealedBy: t.SealedBy, SealReason: t.SealReason}
}

// SealTagOf returns what seals ask of a tag, or ErrNotFound.
func (v View) SealTagOf(repository int64, name oci.Tag) (seals.Tag, error) {
	there, err := one[tag](v.db.Where("repository_id = ? AND name = ? AND "+liveTags, repository, name))
	if err != nil {
		return seals.Tag{}, err
	}
	digest, err := v.TagTarget(repository, name)
	return there.sealOf(digest), err
}

// mayGo fails with *seals.Sealed where a tag of the repository may not be changed.
func (tx *Tx) mayGo(in Repository, t tag) error {
	err := tx.Seals(in, tx.Served()).Check(t.sealOf(""))
	var sealed *seals.Sealed
	if !errors.As(err, &sealed) {
		return err
	}
	target, lost := tx.TagTarget(in.ID, t.Name)
	sealed.Tag.Digest = target
	return errors.Join(err, lost)
}

// SealTag seals a tag by hand, or with no reason takes the seal away. It fails with
// ErrNotFound where there is no such tag, and where there is no seal to take.
func (tx *Tx) SealTag(in Repository, name oci.Tag, reason string, by Actor) error {
	there, err := tx.liveTag(in.ID, name)
	if err != nil {
		return err
	}
	row := map[string]any{"sealed_at": tx.Now(), "sealed_by": by.Account, "seal_reason": reason}
	if reason == "" {
		if there.SealedAt == 0 {
			return ErrNotFound
		}
		row = map[string]any{"sealed_at": 0, "sealed_by": 0, "seal_reason": ""}
	}
	return tx.db.Model(&tag{}).Where("id = ?", there.ID).Updates(row).Error
}

// Judge looks which tags are sealed in a repository or, where that has only a namespace's
// ID, in all of the namespace.
func (s *Store) Judge(ctx context.Context, in Repository) (seals.Judged, error) {
	return s.View(ctx).Seals(in, int64(s.clock.Served())).Judge()
}

// mayLeave fails with *seals.Sealed where a tag in a place is sealed and nobody goes over
// that, and with seals.ErrJudgeAgain.
func (tx *Tx) mayLeave(in Repository, l seals.Leave) error {
	return tx.Seals(in, tx.Served()).MayLeave(l)
}
