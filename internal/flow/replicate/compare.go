package replicate

import (
	"context"
	"errors"
	"slices"

	"warthesis/internal/flow/sides"
	"warthesis/internal/oci"
	"warthesis/internal/peer"
	"warthesis/internal/record"
	"warthesis/internal/record/replication"
	"warthesis/internal/rule"
)

// compared is a tag with what both sides have of it.
type compared struct {
	copied
	// replica is what was agreed on, the zero value for nothing.
	replica replication.Replica
	facts   facts
}

// comparison is a comparison of both sides of a rule.
type comparison struct {
	r              *Replicator
	a              *active
	source, target sides.Side
	// extras tells that tags of the target are looked for as well that the source has not.
	extras bool
	// done hears of repositories that were compared.
	done func(tags int) error
	// visit takes what was found, some at a time.
	visit func([]compared) error
}

func (r *Replicator) comparison(a *active, client *peer.Client) *comparison {
	c := &comparison{r: r, a: a, source: sides.Here{Records: r.records}, target: sides.There{Client: client, Is: a.peer}, done: func(int) error { return nil }}
	if a.row.Inward {
		c.source, c.target = c.target, c.source
	}
	return c
}

// comparedAtOnce is how many tags are visited together.
const comparedAtOnce = 500

// all compares all that the rule means.
func (c *comparison) all(ctx context.Context) error {
	seen := map[oci.Name]bool{}
	visit := func(name oci.Name) error {
		if seen[name] || !c.a.rule.Reaches(name) {
			return nil
		}
		seen[name] = true
		return c.repository(ctx, name)
	}
	exact, every := c.a.rule.Exact()
	if every {
		for _, name := range exact {
			if err := visit(name); err != nil {
				return err
			}
		}
	} else {
		err := c.source.Names(ctx, visit)
		if errors.Is(err, oci.CodeUnsupported) {
			err = oci.Errorf(oci.CodeUnsupported, "%v; a rule that brings from it names its repositories whole, without *", err)
		}
		if err != nil {
			return err
		}
	}
	if c.extras {
		// What lies on the other side alone, where its name tells from where it would come. A peer
		// that does not list its repositories tells of none.
		err := c.target.Names(ctx, func(target oci.Name) error {
			name, could := c.a.rule.SourceRepository(target)
			if !could {
				return nil
			}
			return visit(name)
		})
		if err != nil && !errors.Is(err, oci.CodeUnsupported) && !errors.Is(err, oci.CodeDenied) && !errors.Is(err, oci.CodeUnauthorized) {
			return err
		}
	}
	// Repositories that were copied and are not there any more.
	return sides.Each(func(after string) ([]oci.Name, error) {
		return c.r.records.View(ctx).Replication().Repositories(c.a.row.ID, oci.Name(after), sides.PageHere)
	}, func(name oci.Name) (string, error) { return string(name), visit(name) })
}

// repository compares the tags of one repository.
func (c *comparison) repository(ctx context.Context, name oci.Name) error {
	sources, unknown, err := c.source.Tags(ctx, name)
	if err != nil {
		return err
	}
	replicas, err := c.replicas(ctx, name)
	if err != nil {
		return err
	}
	meant := map[oci.Tag]bool{}
	var all []compared
	for _, s := range sources {
		if !c.a.rule.Means(rule.Name{Repository: name, Tag: s.Name}) {
			continue
		}
		if meant[s.Name] {
			continue
		}
		meant[s.Name] = true
		all = append(all, compared{copied: copied{name: name, tag: s.Name, digest: s.Digest}})
	}
	for tag := range replicas {
		if !meant[tag] && c.a.rule.Means(rule.Name{Repository: name, Tag: tag}) {
			meant[tag] = true
			all = append(all, compared{copied: copied{name: name, tag: tag}})
		}
	}
	for i := range all {
		if all[i].targetName, all[i].targetTag, err = c.a.rule.Target(rule.Name{Repository: name, Tag: all[i].tag}); err != nil {
			return oci.Errorf(oci.CodeNameInvalid, "%v", err)
		}
		if all[i].replica = replicas[all[i].tag]; all[i].replica.Target != all[i].target() {
			all[i].replica = replication.Replica{}
		}
	}
	if err := c.fill(ctx, name, all, unknown, meant); err != nil {
		return err
	}
	return c.done(len(all))
}

func (c *comparison) replicas(ctx context.Context, name oci.Name) (map[oci.Tag]replication.Replica, error) {
	found := map[oci.Tag]replication.Replica{}
	return found, sides.Each(func(after string) ([]replication.Replica, error) {
		return c.r.records.View(ctx).Replication().Replicas(c.a.row.ID, name, oci.Tag(after), sides.PageHere)
	}, func(p replication.Replica) (string, error) {
		found[p.Tag] = p
		return string(p.Tag), nil
	})
}

// fill finds out what the target has, and visits.
func (c *comparison) fill(ctx context.Context, name oci.Name, all []compared, unknown bool, meant map[oci.Tag]bool) error {
	target, err := c.a.rule.TargetRepository(name)
	if err != nil {
		return oci.Errorf(oci.CodeNameInvalid, "%v", err)
	}
	var listed map[oci.Tag]oci.Digest
	toAsk := true
	if c.extras || !asks(c.target) {
		targets, asked, err := c.target.Tags(ctx, target)
		if err != nil {
			return err
		}
		toAsk = asked
		listed = make(map[oci.Tag]oci.Digest, len(targets))
		for _, t := range targets {
			listed[t.Name] = t.Digest
			source, could := c.a.rule.Source(t.Name)
			if c.extras && could && !meant[source] && c.a.rule.Means(rule.Name{Repository: name, Tag: source}) {
				meant[source] = true
				all = append(all, compared{copied: copied{name: name, tag: source, targetName: target, targetTag: t.Name}})
			}
		}
	}
	for some := range slices.Chunk(all, comparedAtOnce) {
		if unknown {
			if err := c.askSources(ctx, some); err != nil {
				return err
			}
		}
		if err := c.askTargets(ctx, some, listed, toAsk); err != nil {
			return err
		}
		for i := range some {
			one := &some[i]
			one.facts = facts{source: one.digest, target: one.was, agreed: one.replica.Digest}
			one.facts.sourceWins, one.facts.targetWins = wins(c.a.rule)
		}
		if err := c.visit(some); err != nil {
			return err
		}
	}
	return ctx.Err()
}

// asks reports whether a side lists tags without what they point to, so that listing them
// saves no question.
func asks(s sides.Side) bool {
	t, is := s.(sides.There)
	return is && !t.Is.Can.Digests
}

func (c *comparison) askSources(ctx context.Context, some []compared) error {
	var at []sides.At
	var to []*compared
	for i := range some {
		at, to = append(at, sides.At{Name: some[i].name, Tag: some[i].tag}), append(to, &some[i])
	}
	found, err := sides.Digests(ctx, c.source, at)
	for i := range to {
		to[i].digest = found[i]
	}
	return err
}

func (c *comparison) askTargets(ctx context.Context, some []compared, listed map[oci.Tag]oci.Digest, toAsk bool) error {
	var at []sides.At
	var to []*compared
	for i := range some {
		one := &some[i]
		digest, is := listed[one.targetTag]
		if listed != nil && (!is || !toAsk) {
			one.was = digest
			continue
		}
		at, to = append(at, sides.At{Name: one.targetName, Tag: one.targetTag}), append(to, one)
	}
	found, err := sides.Digests(ctx, c.target, at)
	for i := range to {
		to[i].was = found[i]
	}
	return err
}

// takeApart compares a whole place, and marks what differs in it.
func (r *Replicator) takeApart(ctx context.Context, a *active, client *peer.Client, due replication.Due) outcome {
	c := r.comparison(a, client)
	since, at := due.MarkedServed, due.MarkedAt
	if since == 0 {
		since, at = int64(r.clock.Served()), record.StampOf(r.clock.Now())
	}
	c.visit = func(some []compared) error {
		var changes []func(*record.Tx) error
		for _, one := range some {
			mark := func(tx *record.Tx) error {
				return tx.Replication().Mark(replication.Due{RuleID: a.row.ID, Repository: one.name, Tag: one.tag, Released: true, MarkedAt: at, MarkedServed: since})
			}
			switch f := one.facts; decide(f) {
			case equal:
				if f.agreed != f.source {
					changes = append(changes, func(tx *record.Tx) error { return agreed(tx, a, one.copied, false) })
				}
			case leave:
			case gone:
				if a.rule.Removals == rule.TakeRemoved && one.replica.Put {
					changes = append(changes, mark)
				}
			default:
				changes = append(changes, mark)
			}
		}
		if len(changes) == 0 {
			return nil
		}
		return r.records.Update(ctx, "replication", func(tx *record.Tx) error {
			for _, change := range changes {
				if err := change(tx); err != nil {
					return err
				}
			}
			return nil
		})
	}
	if due.Repository != "" {
		return outcome{err: c.repository(ctx, due.Repository)}
	}
	return outcome{err: c.all(ctx)}
}
