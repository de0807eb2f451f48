package record

import (
	"warthesis/internal/record/pulls"
	"warthesis/internal/record/quota"
	"warthesis/internal/record/usage"
)

// Quota bounds what is held.
func (v View) Quota() quota.Records { return quota.Records{DB: v.db} }

// Pulls counts what was pulled.
func (v View) Pulls() pulls.Records { return pulls.Records{DB: v.db} }

// Usage tells who holds what.
func (v View) Usage() usage.Records { return usage.Records{DB: v.db} }

// refused tells whether a quota refused a change in a repository, as quota.Records does.
func (tx *Tx) refused(in Repository, by Actor, adds int64, err error) error {
	return tx.Quota().Refused(err, map[string]int64{quota.OfNamespace: in.NamespaceID, quota.OfAccount: by.Account, quota.OfRepository: in.ID}, adds)
}
