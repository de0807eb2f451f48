package registry

import (
	"context"

	"warthesis/internal/oci"
	"warthesis/internal/record"
	"warthesis/internal/record/pulls"
	"warthesis/internal/record/usage"
)

// CountPull notes that a manifest was pulled, by tag or, with an empty tag, by
// digest, by an account, 0 for nobody. The records follow within seconds.
func (r *Registry) CountPull(account int64, name oci.Name, m record.Manifest, tag oci.Tag) {
	r.tally.Pull(pulls.Pull{Repository: m.RepositoryID, Digest: m.Digest, Tag: tag, Count: 1, Last: record.StampOf(r.clock.Now()), LastServed: int64(r.clock.Served())})
	r.CountTraffic(account, name, usage.Traffic{Pulls: 1, BytesOut: m.Size})
}

// CountTraffic notes what went in and out of a repository for an account, 0 for nobody. The
// records follow within seconds.
func (r *Registry) CountTraffic(account int64, name oci.Name, t usage.Traffic) {
	// What was removed meanwhile counts nowhere.
	if in, err := r.records.Repository(context.Background(), name); err == nil {
		r.tally.Traffic(usage.Key{Day: usage.DayOf(r.clock.Now()), NamespaceID: in.NamespaceID, AccountID: account}, t)
	}
}

// FlushPulls records what was counted. Counts that cannot be written are counted again.
func (r *Registry) FlushPulls() error {
	counted := r.tally.Take()
	if len(counted.Pulls)+len(counted.Traffic) == 0 {
		return nil
	}
	err := r.records.Update(context.Background(), "pulls", func(tx *record.Tx) error {
		if err := tx.Pulls().Count(counted.Pulls); err != nil {
			return err
		}
		return tx.Usage().Count(counted.Traffic)
	})
	if err != nil {
		r.tally.GiveBack(counted)
	}
	return err
}
