package replicate

import (
	"context"

	"warthesis/internal/flow"
	"warthesis/internal/oci"
)

// Places are where peers have what a repository here has, by the rules: what is copied to
// them, and what came from them.
func (r *Replicator) Places(ctx context.Context, name oci.Name) (all []flow.Place, err error) {
	for _, a := range r.inForce() {
		if a.row.Inward {
			sources, err := r.records.View(ctx).Replication().Sources(a.row.ID, name)
			if err != nil {
				return nil, err
			}
			for _, source := range sources {
				all = append(all, flow.Place{Peer: a.peer, Name: a.peer.Repository(source)})
			}
			continue
		}
		if target, err := a.rule.TargetRepository(name); err == nil && a.rule.Reaches(name) {
			all = append(all, flow.Place{Peer: a.peer, Name: a.peer.Repository(target)})
		}
	}
	return all, nil
}
