package sweep

import (
	"context"
	"errors"
	"log/slog"

	"warthesis/internal/record"
	"warthesis/internal/record/quota"
	"warthesis/internal/record/usage"
	"warthesis/internal/work"
)

// KindSamples is the run that notes each day how much there is.
const KindSamples = "usage-samples"

const (
	// mostPlaces bounds the namespaces that are sampled, and the repositories of each.
	mostPlaces = 100_000
	// forgetAtOnce is how many old rows one change forgets.
	forgetAtOnce = 2000
)

// sample notes how much there is today, and forgets what is too old.
func (s *Sweeper) sample(ctx context.Context, g *work.Going) error {
	return s.Sample(ctx, g.Breathe)
}

// Sample notes how much there is today, in each namespace and repository and in all, and
// forgets what is older than usage.KeptDays. breathe is called between pieces of work.
func (s *Sweeper) Sample(ctx context.Context, breathe func() error) error {
	day := usage.DayOf(s.clock.Now())
	view := s.records.View(ctx)
	everything := record.Seen{Everything: true}.Condition()
	namespaces, err := view.Usage().Namespaces(everything, mostPlaces)
	if err != nil {
		return err
	}
	whole, err := view.Unheld().Bytes()
	if err != nil {
		return err
	}
	all := usage.Sample{Day: day, Seen: whole.Bytes, Own: whole.Bytes}
	for _, n := range namespaces {
		all.Images, all.Tags, all.Waiting = all.Images+n.Images, all.Tags+n.Tags, all.Waiting+n.Waiting
		samples := []usage.Sample{sampleOf(n, n.ID, 0, day)}
		repositories, err := view.Usage().Repositories(n.ID, everything, mostPlaces)
		if err != nil {
			return err
		}
		for _, r := range repositories {
			samples = append(samples, sampleOf(r, n.ID, r.ID, day))
		}
		if err := errors.Join(s.keep(ctx, samples), breathe()); err != nil {
			return err
		}
	}
	if err := s.keep(ctx, []usage.Sample{all}); err != nil {
		return err
	}
	return s.forget(ctx, day-usage.KeptDays, breathe)
}

func sampleOf(c usage.Child, namespace, repository, day int64) usage.Sample {
	return usage.Sample{NamespaceID: namespace, RepositoryID: repository, Day: day, Seen: c.Seen, Own: c.Own, Waiting: c.Waiting, Images: c.Images, Tags: c.Tags}
}

func (s *Sweeper) keep(ctx context.Context, samples []usage.Sample) error {
	for start := 0; start < len(samples); start += 200 {
		some := samples[start:min(start+200, len(samples))]
		if _, err := s.records.UpdateQuietly(ctx, "usage-samples", func(tx *record.Tx) error { return tx.Usage().Keep(some) }); err != nil {
			return err
		}
	}
	return nil
}

func (s *Sweeper) forget(ctx context.Context, before int64, breathe func() error) error {
	for more := true; more; {
		_, err := s.records.UpdateQuietly(ctx, "usage-samples", func(tx *record.Tx) (err error) {
			more, err = tx.Usage().Forget(before, forgetAtOnce)
			return err
		})
		if err := errors.Join(err, breathe()); err != nil {
			return err
		}
	}
	return nil
}

// recount counts the sums of quotas again, and sets right those that are wrong.
func (s *Sweeper) recount(ctx context.Context, g *work.Going) error {
	g.Step("counting what is held", "", 0)
	for _, of := range []string{quota.OfNamespace, quota.OfAccount, quota.OfRepository} {
		for after := int64(0); ; {
			c, err := s.records.View(ctx).Quota().Next(of, after)
			if err != nil {
				return err
			}
			if c.ID == 0 {
				break
			}
			if after = c.ID; c.Kept != c.Real {
				slog.Error("what is held was not what its sum said, and is set right", "of", of, "name", c.Name, "sum", c.Kept, "counted", c.Real)
				err = s.records.Update(ctx, "recount", func(tx *record.Tx) error { return tx.Quota().Mend(c) })
			}
			if err := errors.Join(err, g.Breathe()); err != nil {
				return err
			}
		}
	}
	return nil
}
