package registry

import (
	"context"
	"sync"

	"warthesis/internal/oci"
	"warthesis/internal/record"
)

type pullKey struct {
	repository int64
	digest     oci.Digest
	tag        oci.Tag
}

// pullCounter gathers pulls in memory, so that a pull costs no write.
type pullCounter struct {
	mu    sync.Mutex
	count map[pullKey]record.Pull
}

// CountPull notes that a manifest was pulled, by tag or, with an empty tag, by
// digest. The records follow within seconds.
func (r *Registry) CountPull(m record.Manifest, tag oci.Tag) {
	key := pullKey{m.RepositoryID, m.Digest, tag}
	r.pulls.mu.Lock()
	defer r.pulls.mu.Unlock()
	if r.pulls.count == nil {
		r.pulls.count = map[pullKey]record.Pull{}
	}
	p := r.pulls.count[key]
	r.pulls.count[key] = record.Pull{
		Repository: m.RepositoryID, Digest: m.Digest, Tag: tag,
		Count: p.Count + 1, Last: record.StampOf(r.clock.Now()), LastServed: int64(r.clock.Served()),
	}
}

// FlushPulls records what was counted. Counts that cannot be written are counted again.
func (r *Registry) FlushPulls() error {
	r.pulls.mu.Lock()
	counted := r.pulls.count
	r.pulls.count = nil
	r.pulls.mu.Unlock()
	if len(counted) == 0 {
		return nil
	}
	all := make([]record.Pull, 0, len(counted))
	for _, p := range counted {
		all = append(all, p)
	}
	err := r.records.Update(context.Background(), "pulls", func(tx *record.Tx) error { return tx.CountPulls(all) })
	if err != nil {
		r.recount(counted)
	}
	return err
}

func (r *Registry) recount(counted map[pullKey]record.Pull) {
	r.pulls.mu.Lock()
	defer r.pulls.mu.Unlock()
	if r.pulls.count == nil {
		r.pulls.count = map[pullKey]record.Pull{}
	}
	for key, p := range counted {
		now, there := r.pulls.count[key]
		if there {
			p.Count, p.Last, p.LastServed = p.Count+now.Count, now.Last, now.LastServed
		}
		r.pulls.count[key] = p
	}
}
