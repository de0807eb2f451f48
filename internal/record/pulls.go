package record

import "warthesis/internal/record/pulls"

// Pull is how often a manifest was pulled, by tag or, without one, by digest.
type Pull = pulls.Pull

// CountPulls adds pulls to their manifests, tags and repositories. What went
// meanwhile is passed over.
func (tx *Tx) CountPulls(all []Pull) error { return pulls.Count(tx.db, all) }
