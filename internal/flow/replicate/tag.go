package replicate

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"time"

	"warthesis/internal/flow/sides"
	"warthesis/internal/oci"
	"warthesis/internal/peer"
	"warthesis/internal/record"
	"warthesis/internal/record/replication"
	"warthesis/internal/rule"
)

// one compares a tag or a digest that is due with the other side, and does what is to be done.
func (r *Replicator) one(ctx context.Context, a *active, client *peer.Client, due replication.Due) outcome {
	if due.Digest != "" {
		return r.referrer(ctx, a, client, due)
	}
	at := rule.Name{Repository: due.Repository, Tag: due.Tag}
	if !a.rule.Means(at) {
		return outcome{}
	}
	targetName, targetTag, err := a.rule.Target(at)
	if err != nil {
		return outcome{err: oci.Errorf(oci.CodeNameInvalid, "%v", err)}
	}
	c := copied{name: due.Repository, tag: due.Tag, targetName: targetName, targetTag: targetTag}
	var source, target sides.Side = sides.Here{Records: r.records}, sides.There{Client: client, Is: a.peer}
	if a.row.Inward {
		source, target = target, source
	}
	if c.digest, err = source.Digest(ctx, c.name, c.tag); err != nil {
		return outcome{err: err}
	}
	if c.digest != "" {
		takes, err := r.takesType(ctx, a, client, c)
		if err != nil || !takes {
			return outcome{err: err}
		}
	}
	if c.was, err = target.Digest(ctx, c.targetName, c.targetTag); err != nil {
		return outcome{err: err}
	}
	view := r.records.View(ctx).Replication()
	replica, err := view.Replica(a.row.ID, c.name, c.tag)
	if err != nil {
		return outcome{err: err}
	}
	if replica.Target != c.target() {
		replica = replication.Replica{}
	}
	f := facts{source: c.digest, target: c.was, agreed: replica.Digest, forced: due.Forced == replication.Overwrites}
	f.sourceWins, f.targetWins = wins(a.rule)
	if f.source != "" && f.target != "" && f.target != f.agreed {
		if f.behind, err = r.isBehind(ctx, a, c, f.agreed); err != nil {
			return outcome{err: err}
		}
	}
	do := decide(f)
	if do == send && !f.forced && r.swings.putsBack(a.row.ID, c) {
		// The other side's rule put its own here while this one put ours there.
		do = clash
	}
	o := r.act(ctx, a, client, due, c, replica, do)
	if do == send && o.err == nil && c.was != "" && c.was != f.agreed {
		r.swings.overrides(a.row.ID, c)
	}
	return o
}

// isBehind reports whether what the other side has is what this rule may have put there: what
// the tag pointed to since both agreed, or ever where they did not. A copy of which nobody
// noted the end is known by that.
func (r *Replicator) isBehind(ctx context.Context, a *active, c copied, agreed oci.Digest) (bool, error) {
	view := r.records.View(ctx).Replication()
	if a.row.Inward {
		return view.Came(c.targetName, c.targetTag, a.peer.Name)
	}
	return view.Had(c.name, c.tag, c.was, agreed)
}

// takesType reports whether the rule copies what a tag points to.
func (r *Replicator) takesType(ctx context.Context, a *active, client *peer.Client, c copied) (bool, error) {
	if len(a.rule.ArtifactTypes) == 0 {
		return true, nil
	}
	if !a.row.Inward {
		m, err := r.registry.Manifest(ctx, c.name, c.digest.String())
		return err == nil && a.rule.TakesType(m.ArtifactType), err
	}
	d, raw, err := client.Manifest(ctx, a.peer.Repository(c.name), c.digest.String())
	if err != nil {
		return false, err
	}
	parsed, err := oci.ParseManifest(d.MediaType, raw)
	return err == nil && a.rule.TakesType(parsed.ArtifactType), err
}

// agreed is what both sides have of a tag now.
func agreed(tx *record.Tx, a *active, c copied, put bool) error {
	return tx.Replication().Agree(replication.Replica{
		RuleID: a.row.ID, Repository: c.name, Tag: c.tag, Target: c.target(), Digest: c.digest, Put: put, AgreedAt: tx.Now(),
	})
}

func (r *Replicator) act(ctx context.Context, a *active, client *peer.Client, due replication.Due, c copied, replica replication.Replica, do action) outcome {
	switch do {
	case equal:
		if replica.Digest == c.digest {
			return outcome{}
		}
		// Where it came by itself the rule did not put it there, and never takes it away.
		return outcome{note: func(tx *record.Tx) error { return agreed(tx, a, c, false) }}
	case send:
		var err error
		if a.row.Inward {
			err = r.bring(ctx, a, client, c)
		} else {
			err = r.send(ctx, a, client, c)
		}
		if err != nil {
			return outcome{err: err}
		}
		return outcome{note: func(tx *record.Tx) error { return agreed(tx, a, c, true) }}
	case leave:
		return outcome{}
	case clash:
		due.State, due.Tries, due.Error = replication.Conflicts, 0, ""
		due.Here, due.There = c.digest, c.was
		if a.row.Inward {
			due.Here, due.There = c.was, c.digest
		}
		// Both sides of a conflict do not look again at the same moment.
		due.NotBefore = int64(r.clock.Served() + conflictsEvery + rand.N(conflictsEvery/4))
		return outcome{put: &due}
	}
	return r.removal(ctx, a, client, due, c, replica)
}

// removal takes a tag away where it was copied to, if the rule says so: only what this rule
// put there and nobody moved since, and only once it cannot be undone any more.
func (r *Replicator) removal(ctx context.Context, a *active, client *peer.Client, due replication.Due, c copied, replica replication.Replica) outcome {
	forget := outcome{note: func(tx *record.Tx) error { return tx.Replication().ForgetReplica(a.row.ID, c.name, c.tag) }}
	switch {
	case a.rule.Removals != rule.TakeRemoved || replica.Digest == "" || !replica.Put:
		return outcome{}
	case c.was == "":
		return forget
	case c.was != replica.Digest:
		return outcome{}
	}
	if !a.row.Inward {
		was, until, err := r.undoable(ctx, c)
		switch {
		case err != nil:
			return outcome{err: err}
		case !was:
			// The repository is called otherwise now: nothing was removed.
			return outcome{}
		case until > r.clock.Served():
			due.State, due.NotBefore, due.Error = replication.Waits, int64(until), ""
			return outcome{put: &due}
		}
	}
	if due.Forced != replication.Removes {
		share, err := r.records.View(ctx).Replication().Share(a.row.ID, c.name, int64(r.clock.Served()-removalsOver))
		if err != nil {
			return outcome{err: err}
		}
		if goes := share.Gone + max(share.Asked, 1); 5*goes > share.Stand+share.Gone {
			due.State = replication.Asks
			due.Error = fmt.Sprintf("removing it at the other side would take %d of %d tags of %s that the rule put there, more than a fifth; to allow it: warthesis replication run REGISTRY %s --removals",
				goes, share.Stand+share.Gone, c.name, a.row.Name)
			return outcome{put: &due}
		}
	}
	var err error
	if a.row.Inward {
		err = r.removeHere(ctx, a, c, replica)
	} else {
		err = client.DeleteTag(ctx, a.peer.Repository(c.targetName), c.targetTag, replica.Digest)
	}
	if err != nil && !errors.Is(err, oci.CodeManifestUnknown) {
		return outcome{err: err}
	}
	return outcome{note: func(tx *record.Tx) error { return tx.Replication().Removed(replica, tx.Served()) }}
}

// removalsOver is over how long it is counted how much of a repository goes by removals, in
// served time.
const removalsOver = 24 * time.Hour

// undoable returns until when, in served time, the removal of a tag here can be undone, and
// whether it was removed at all.
func (r *Replicator) undoable(ctx context.Context, c copied) (was bool, until time.Duration, err error) {
	removal, found, err := r.records.View(ctx).Replication().RemovalOf(c.name, c.tag)
	if err != nil {
		return false, 0, err
	}
	if !found {
		// Its rows are gone for good, or it has another name: of a repository that is there.
		_, err := r.records.Repository(ctx, c.name)
		if errors.Is(err, record.ErrNotFound) {
			return false, 0, nil
		}
		return err == nil, 0, err
	}
	if removal.Over {
		return true, 0, nil
	}
	window := r.records.Rights().Settings().Window(time.Duration(removal.Window))
	return true, time.Duration(removal.RemovedServed) + window, nil
}

// removeHere removes a tag that a rule brought and its peer has no more.
func (r *Replicator) removeHere(ctx context.Context, a *active, c copied, replica replication.Replica) error {
	return r.registry.RemoveTag(ctx, c.targetName, c.targetTag, replica.Digest, fmt.Sprintf("the replication rule %s: %s has it no more", a.row.Name, a.peer.Name))
}

// referrer copies what refers to another manifest, where that is at the peer already: else it
// travels with it.
func (r *Replicator) referrer(ctx context.Context, a *active, client *peer.Client, due replication.Due) outcome {
	if !a.rule.WithReferrers() || !a.rule.Reaches(due.Repository) || a.row.Inward {
		return outcome{}
	}
	m, err := r.registry.Manifest(ctx, due.Repository, due.Digest.String())
	if errors.Is(err, oci.CodeManifestUnknown) || errors.Is(err, oci.CodeNameUnknown) || err == nil && m.Subject == "" {
		return outcome{}
	}
	if err != nil {
		return outcome{err: err}
	}
	target, err := a.rule.TargetRepository(due.Repository)
	if err != nil {
		return outcome{err: oci.Errorf(oci.CodeNameInvalid, "%v", err)}
	}
	to := a.peer.Repository(target)
	for _, wanted := range []struct {
		digest oci.Digest
		enough bool
	}{{m.Subject, false}, {due.Digest, true}} {
		has, err := client.HasManifest(ctx, to, wanted.digest)
		if err != nil || has == wanted.enough {
			return outcome{err: err}
		}
	}
	return outcome{err: r.send(ctx, a, client, copied{name: due.Repository, digest: due.Digest, targetName: target})}
}
