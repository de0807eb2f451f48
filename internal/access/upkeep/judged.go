package upkeep

import (
	"context"
	"errors"
	"slices"
	"strings"

	"warthesis/internal/access"
	"warthesis/internal/oci"
	"warthesis/internal/record"
	"warthesis/internal/record/keeping"
	"warthesis/internal/rule"
	"warthesis/internal/rule/worth"
)

// Judged is what retention rules say of one tag or image.
type Judged struct {
	// There tells that there is such a tag or image.
	There  bool
	Digest oci.Digest
	// KeptBy is what keeps an image without a tag: an index or a subject, "" for nothing.
	KeptBy  oci.Digest
	Finding worth.Finding
	// Day is on which of the days to come it goes, -1 for on none of them.
	Day     int
	Answers []rule.Answer
	Hidden  int
}

// Judge says which retention rule decides of a tag, or of an image by its digest, and when it
// goes. The caller may pull there. With words a list at a place or under a name stands for
// the one that is set, for whoever may set it.
func (u *Upkeep) Judge(ctx context.Context, c access.Caller, name oci.Name, target string, at At, words *string) (j Judged, err error) {
	at.Kind = rule.Retention.Name
	p := &retentionPreview{upkeep: u, served: int64(u.Clock.Served())}
	if words != nil {
		if p.key, p.with, err = u.retentionDraft(ctx, c, at, words); err != nil {
			return j, err
		}
	}
	in, err := u.Records.Repository(ctx, name)
	if errors.Is(err, record.ErrNotFound) {
		err = oci.Errorf(oci.CodeNameUnknown, "there is no repository %s here", name)
	}
	if err != nil {
		return j, err
	}
	end, err := u.Look(c)
	if err != nil {
		return j, err
	}
	defer end()
	ctx, cancel := context.WithTimeout(ctx, retentionPatience)
	defer cancel()
	var all *worth.Repository
	var around keeping.Around
	err = u.Records.Snapshot(ctx, func(view record.View) error {
		place, err := loadable(view, in.ID)
		if err != nil {
			return err
		}
		inUse, err := view.InUse().Worth(p.served)
		if err != nil {
			return err
		}
		terms := worth.Terms{Served: p.served, Grace: int64(u.Grace), Wait: int64(u.RuleWait), InUse: inUse, Stop: func() bool { return ctx.Err() != nil }}
		if around, err = view.Judging().Of(place, terms, p.with); err != nil {
			return err
		}
		all, err = view.Keeping().Load(place, around.Terms.LabelNames())
		return err
	})
	if errors.Is(err, keeping.ErrNone) {
		err = oci.Errorf(oci.CodeNameUnknown, "the repository %s was removed a moment ago", name)
	}
	if err != nil {
		return j, err
	}
	return u.judged(ctx, c, name, target, all, around.Terms)
}

// loadable returns a repository, and fails where it has more than may be looked at for
// somebody who waits.
func loadable(view record.View, repository int64) (keeping.Place, error) {
	size, err := view.Keeping().Size(repository, MostJudged)
	if err == nil && size >= MostJudged {
		err = oci.Errorf(oci.CodeQueryInvalid, "the repository has more than %d tags and images, which are not told one by one", MostJudged)
	}
	if err != nil {
		return keeping.Place{}, err
	}
	return view.Keeping().Place(repository)
}

func (u *Upkeep) judged(ctx context.Context, c access.Caller, name oci.Name, target string, all *worth.Repository, terms worth.Terms) (j Judged, err error) {
	tag, image := all.Find(target)
	if j.There = tag >= 0 || image >= 0; !j.There {
		if strings.Contains(target, ":") {
			return j, oci.Errorf(oci.CodeManifestUnknown, "the repository %s has no manifest %s", name, target)
		}
		tag = all.Imagine(oci.Tag(target), terms.Served)
	}
	now := all.Judge(terms)
	if now.Stopped {
		return j, ctx.Err()
	}
	at := slices.IndexFunc(now.Findings, func(f worth.Finding) bool {
		return tag >= 0 && f.Tag == tag || tag < 0 && f.Tag < 0 && f.Image == image
	})
	j.Day = -1
	if at < 0 {
		j.Digest, j.KeptBy = all.Images[image].Digest, all.KeptBy(image)
		return j, nil
	}
	j.Finding = now.Findings[at]
	if j.There {
		j.Digest = all.Images[j.Finding.Image].Digest
	}
	answers := now.Explain(at)
	for day, d := range all.Days(terms, RetentionDays) {
		if slices.ContainsFunc(d.Goes, func(f worth.Finding) bool { return f.Tag == tag && (tag >= 0 || f.Image == image) }) {
			j.Day = day
			break
		}
	}
	j.Answers, j.Hidden = u.seenOf(ctx, c, name, answers)
	return j, nil
}

// seenOf leaves out the answers of rules that do not decide, of lists that the caller may
// not see, and counts them for who may push there; to others also how many there are is
// nobody's business.
func (u *Upkeep) seenOf(ctx context.Context, c access.Caller, name oci.Name, answers []rule.Answer) (shown []rule.Answer, hidden int) {
	seen := map[rule.Level]bool{}
	for level, at := range map[rule.Level]At{rule.OfRepository: {Place: name}, rule.OfNamespace: {Place: oci.Name(name.Namespace())}, rule.OfRegistry: {}} {
		seen[level] = u.seesRules(ctx, c, at)
	}
	for _, a := range answers {
		if !a.Decides && !seen[a.Level] {
			if seen[rule.OfRepository] {
				hidden++
			}
			continue
		}
		shown = append(shown, a)
	}
	return shown, hidden
}
