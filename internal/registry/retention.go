package registry

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"time"

	"warthesis/internal/oci"
	"warthesis/internal/record"
	"warthesis/internal/record/keeping"
	"warthesis/internal/record/taglog"
	"warthesis/internal/record/turns"
	"warthesis/internal/registry/touches"
	"warthesis/internal/rule/worth"
)

// ErrJudgeAgain: since a repository was judged, its tags, images, rules or what is in use
// changed.
var ErrJudgeAgain = errors.New("the repository was changed since it was judged")

// Judgement is a repository as it was judged.
type Judgement struct {
	Place keeping.Place
	// Around are the rules that stood around it, InUse the version of the lists of what is
	// in use.
	Around keeping.Around
	InUse  string
	// All is what was in it, Run the run that judges.
	All *worth.Repository
	Run int64
	// taken counts the tags of each image that went by this judgement.
	taken map[int]int
}

// mostReason is how much of a rule's words stands at a removal, in bytes.
const mostReason = 1000

// TakeByRules removes what rules let go, as by hand: each tag by a removal of its own, which
// takes the image where the finding says so, and each image without a tag. It changes
// nothing and fails with ErrJudgeAgain where what the rules decided by has changed since, and
// returns the mark that the repository has then, and how long it held the writer.
func (r *Registry) TakeByRules(ctx context.Context, j *Judgement, some []worth.Finding) (t RuleTaken, err error) {
	// What was pulled a moment ago counts.
	if err := r.FlushPulls(); err != nil {
		return t, err
	}
	claims := make([]touches.Key, 0, len(some))
	for _, f := range some {
		if f.Tag < 0 || f.WithImage {
			claims = append(claims, touches.Key{Repository: j.Place.ID, Digest: j.All.Images[f.Image].Digest})
		}
	}
	// What somebody who may push was told of a moment ago stays, and whoever asks now waits
	// for the outcome.
	free, end := r.touches.Take(claims, int64(r.clock.Served()-r.limits.Grace))
	defer end()
	if slices.Contains(free, false) {
		return t, errors.Join(ErrJudgeAgain, r.FlushTouches())
	}
	var taken map[int]int
	t.Waited, err = r.records.UpdateQuietly(ctx, "retention", func(tx *record.Tx) error {
		began := time.Now()
		defer func() { t.Held = time.Since(began) }()
		t.Images, taken = 0, maps.Clone(j.taken)
		if taken == nil {
			taken = map[int]int{}
		}
		in, err := j.stands(tx)
		if err != nil {
			return err
		}
		for _, f := range some {
			if err := takeByRule(ctx, tx, in, j, f, taken, &t); err != nil {
				return err
			}
		}
		now, err := tx.Keeping().Place(in.ID)
		t.Mark = now.Mark
		// What it decided by may have been damaged.
		return errors.Join(err, r.records.Sound())
	})
	if err == nil {
		j.taken = taken
	}
	return t, err
}

// RuleTaken is what came of taking by rules.
type RuleTaken struct {
	// Images counts those that went.
	Images int
	Mark   int64
	Held   time.Duration
	Waited turns.Waited
}

// stands returns the repository where all that the rules decided by is as it was.
func (j *Judgement) stands(tx *record.Tx) (record.Repository, error) {
	in, err := tx.LiveRepository(j.Place.ID)
	if errors.Is(err, record.ErrNotFound) {
		return in, ErrJudgeAgain
	}
	if err != nil {
		return in, err
	}
	place, err := tx.Keeping().Place(in.ID)
	if err != nil {
		return in, err
	}
	around, err := tx.Retention().Around(tx.RuleLists(), in.NamespaceID, in.ID, in.Name)
	if err != nil {
		return in, err
	}
	inUse, err := tx.InUse().Version()
	if err == nil && (place != j.Place || !around.Same(j.Around.Around) || inUse != j.InUse) {
		err = ErrJudgeAgain
	}
	return in, err
}

func takeByRule(ctx context.Context, tx *record.Tx, in record.Repository, j *Judgement, f worth.Finding, taken map[int]int, t *RuleTaken) error {
	m := j.All.Images[f.Image]
	// A tag that came since may be among the newest, and its image with it.
	if tags, err := tx.Keeping().HasTags(m); err != nil || tags != m.HasTags()-taken[f.Image] {
		return errors.Join(err, ErrJudgeAgain)
	}
	if pulled, err := tx.Keeping().LastPull(in.ID, m); err != nil || pulled > m.LastPull() {
		return errors.Join(err, ErrJudgeAgain)
	}
	by := record.Actor{Reason: f.Verdict.String(), Run: j.Run, Origin: taglog.OriginRule}
	if len(by.Reason) > mostReason {
		by.Reason = oci.Cut(by.Reason, mostReason) + " …"
	}
	said := event(ctx, record.EventManifestDeleted, in)
	said.Detail, said.Digest = "by retention: "+by.Reason, m.Digest
	if f.Tag < 0 {
		removal, err := tx.BeginRemoval(record.RemovalOfManifest, in, string(m.Digest), by)
		if err == nil {
			err = removeImage(tx, in, m, removal, by)
		}
		t.Images++
		return errors.Join(err, tx.Log(said))
	}
	taken[f.Image]++
	tag := j.All.Tags[f.Tag]
	removal, err := tx.BeginRemoval(record.RemovalOfTag, in, string(tag.Name), by)
	if err == nil {
		err = tx.DeleteTag(in, tag.Name, removal, by)
	}
	if err != nil {
		return err
	}
	gone := said
	gone.Kind, gone.Tag, gone.Digest = record.EventTagDeleted, tag.Name, m.Digest
	if err := tx.Log(gone); err != nil || !f.WithImage {
		return err
	}
	t.Images++
	return errors.Join(removeImage(tx, in, m, removal, by), tx.Log(said))
}

// removeImage removes an image that nothing keeps.
func removeImage(tx *record.Tx, in record.Repository, m worth.Image, removal int64, by record.Actor) error {
	kept, err := tx.Keeping().Kept(in.ID, m)
	if err != nil {
		return err
	}
	if kept {
		return fmt.Errorf("the image %s of %s is kept by something that was not seen: %w", m.Digest, in.Name, ErrJudgeAgain)
	}
	_, err = tx.DeleteManifest(in, m.ID, m.Digest, removal, by)
	return err
}
