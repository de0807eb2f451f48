package record

import (
	"errors"

	"warthesis/internal/record/pulls"
	"warthesis/internal/record/quota"
	"warthesis/internal/record/usage"
)

// Quota bounds what is held.
func (v View) Quota() quota.Records { return quota.Records{DB: v.db} }

// Pull is how often a manifest was pulled.
type Pull = pulls.Pull

// CountPulls adds pulls to their manifests, tags and repositories.
func (tx *Tx) CountPulls(all []Pull) error { return pulls.Count(tx.db, all) }

// Usage tells who holds what.
func (v View) Usage() usage.Records { return usage.Records{DB: v.db} }

// mayHold fails with *quota.Exceeded where a repository may not hold a blob that it does not
// hold yet.
func (tx *Tx) mayHold(in Repository, b Blob, by Actor) error {
	var there bool
	if err := tx.db.Raw("SELECT EXISTS (SELECT 1 FROM holdings WHERE repository_id = ? AND content_id = ?)", in.ID, b.ContentID).Scan(&there).Error; err != nil || there {
		return err
	}
	warnings, err := tx.Quota().MayHold(in.NamespaceID, by.Account, b.ContentID, b.Size)
	return errors.Join(err, tx.warn(in, warnings))
}

// mayTag fails with *quota.Exceeded where a repository may not have one more tag.
func (tx *Tx) mayTag(in Repository) error {
	warnings, err := tx.Quota().MayTag(in.ID)
	return errors.Join(err, tx.warn(in, warnings))
}

// warn logs that quotas are nearly full.
func (tx *Tx) warn(in Repository, warnings []quota.Warning) error {
	for _, w := range warnings {
		e := Event{Kind: EventQuotaNearly, Subject: w.Of + " " + w.Name, Detail: w.String()}
		if w.Of != quota.OfAccount {
			e.NamespaceID = in.NamespaceID
		}
		if err := tx.Log(e); err != nil {
			return err
		}
	}
	return nil
}
