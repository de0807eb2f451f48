package upkeep

import (
	"context"
	"fmt"
	"strings"
	"time"

	access "warthesis/internal/access/upkeep"
	"warthesis/internal/api"
	"warthesis/internal/httpd/callers"
	"warthesis/internal/httpd/management/desk"
	"warthesis/internal/oci"
	"warthesis/internal/record"
	"warthesis/internal/rule"
	"warthesis/internal/rule/worth"
	"warthesis/internal/sweep"
	"warthesis/internal/work"
)

// RetentionInput says where a list of retention rules stands. It is exported for the API
// library.
type RetentionInput struct {
	Place string `query:"place" maxLength:"255" doc:"A namespace or a repository; with no name either, the registry"`
	List  string `query:"list" maxLength:"64" doc:"A list's own name, instead of a place"`
}

func (in RetentionInput) at() (access.At, error) {
	return RulesInput{Kind: rule.Retention.Name, Place: in.Place, List: in.List}.at()
}

// nextRun is when a kind of work runs next by itself, nil for never.
func (d *door) nextRun(kind string) *time.Time {
	for _, f := range d.Work.Fares() {
		if f.Kind.Name == kind && f.Next >= 0 {
			at := d.Upkeep.Clock.Now().Add(f.Next)
			return &at
		}
	}
	return nil
}

// about is when served time reaches a moment, if the registry runs all the time.
func (d *door) about(served int64) time.Time {
	return d.Upkeep.Clock.Now().Add(time.Duration(served) - d.Upkeep.Clock.Served())
}

func (d *door) actRules(ctx context.Context, in *struct {
	RulesInput
	Body api.ActRules
}) (*desk.None, error) {
	at, err := in.at()
	if err != nil {
		return nil, desk.Refusal(err)
	}
	return desk.Done(d.Upkeep.ActRules(ctx, callers.From(ctx), at, in.Body.Reason))
}

func (d *door) retention(ctx context.Context, in *struct {
	RetentionInput
	Limit int `query:"limit" minimum:"0" maximum:"20000" default:"500" doc:"How many things are told one by one"`
}) (*desk.Reply[api.RetentionPreview], error) {
	return d.previewRetention(ctx, in.RetentionInput, nil, in.Limit)
}

func (d *door) tryRetention(ctx context.Context, in *struct {
	RetentionInput
	Body api.TryRetention
}) (*desk.Reply[api.RetentionPreview], error) {
	return d.previewRetention(ctx, in.RetentionInput, &in.Body.Words, in.Body.Limit)
}

func (d *door) previewRetention(ctx context.Context, in RetentionInput, words *string, limit int) (*desk.Reply[api.RetentionPreview], error) {
	at, err := in.at()
	if err != nil {
		return nil, desk.Refusal(err)
	}
	now := d.Upkeep.Clock.Now()
	p, err := d.Upkeep.PreviewRetention(ctx, callers.From(ctx), at, words)
	if err != nil {
		return nil, desk.Refusal(err)
	}
	shown := api.RetentionPreview{
		At: now, Repositories: p.Repositories, Reaches: p.Reaches, Tags: p.Tags, Images: p.Images, Count: p.ItemCount, Undecided: p.Undecided, Sealed: p.Sealed, InGrace: p.InGrace,
		Items: itemsOf(p.Items, limit), Spared: itemsOf(p.Spared, limit), Rules: []api.RetentionRule{}, Waits: []api.RetentionWaiting{},
		StaleInUse: desk.List(p.Stale), NextRun: d.nextRun(sweep.KindRetention), More: p.More,
	}
	for _, day := range p.Days {
		shown.Days = append(shown.Days, api.RetentionDay{Day: day.Day, At: now.Add(time.Duration(day.Day) * 24 * time.Hour), Tags: day.Tags, Images: day.Images, Bytes: day.Bytes})
	}
	for _, r := range p.Rules {
		shown.Rules = append(shown.Rules, api.RetentionRule{
			Of: r.Verdict.Of, Number: r.Verdict.Number, Verb: r.Verdict.Verb, Words: r.Verdict.Words, Because: r.Verdict.Because, Goes: r.Goes, Keeps: r.Keeps,
		})
	}
	for _, w := range p.Waits {
		shown.Waits = append(shown.Waits, api.RetentionWaiting{Repository: w.Repository, Of: w.Of, Day: w.Day, Until: d.about(w.UntilServed), Takes: w.Takes, OutOf: w.OutOf})
	}
	return desk.OK(shown, nil)
}

func itemsOf(all []access.RetentionItem, limit int) []api.RetentionItem {
	shown := make([]api.RetentionItem, min(limit, len(all)))
	for i := range shown {
		item := all[i]
		shown[i] = api.RetentionItem{
			Day: item.Day, Repository: item.Repository, Tag: item.Tag, Digest: item.Digest, WithImage: item.WithImage, Size: item.Size, New: item.New,
		}
		if item.Verdict.Decided() {
			shown[i].Why = item.Verdict.String()
		}
	}
	return shown
}

// ExplainRetentionInput names a tag or an image. It is exported for the API library.
type ExplainRetentionInput struct {
	desk.RepositoryInput
	Target string `query:"target" required:"true" maxLength:"150" doc:"A tag, which need not be there, or a digest"`
}

func (d *door) explainRetention(ctx context.Context, in *ExplainRetentionInput) (*desk.Reply[api.RetentionExplanation], error) {
	name, err := readTarget(in.Repository, in.Target)
	if err == nil {
		err = d.Visible(ctx, name)
	}
	if err != nil {
		return nil, desk.Refusal(err)
	}
	j, err := d.Upkeep.Judge(ctx, callers.From(ctx), name, in.Target, access.At{}, nil)
	return desk.OK(d.judged(name, in.Target, j), err)
}

func readTarget(repository, target string) (oci.Name, error) {
	name, err := oci.ParseName(repository)
	if err != nil {
		return name, err
	}
	if strings.Contains(target, ":") {
		_, err = oci.ParseDigest(target)
	} else {
		_, err = oci.ParseTag(target)
	}
	return name, err
}

func (d *door) judged(name oci.Name, target string, j access.Judged) api.RetentionExplanation {
	shown := api.RetentionExplanation{Repository: name, Target: target, There: j.There, Digest: j.Digest, Outcome: "stays", Says: d.sayJudged(j), Answers: answersOf(j.Answers), Hidden: j.Hidden}
	if j.Finding.Goes {
		shown.Outcome = "goes"
	}
	if j.Day >= 0 {
		shown.Day = &j.Day
	}
	return shown
}

// sayJudged says in a sentence what rules say of a tag or an image.
func (d *door) sayJudged(j access.Judged) string {
	f := j.Finding
	if j.KeptBy != "" {
		return fmt.Sprintf("it stays: %s names it, or is what it refers to", j.KeptBy)
	}
	until := func() string { return d.about(f.Until).UTC().Format("about 2006-01-02 15:04 UTC") }
	said := ""
	switch {
	case f.Goes && f.Tag >= 0 && !f.WithImage:
		said = "it goes, and its image stays, which something else keeps: " + f.Verdict.String()
	case f.Goes:
		said = "it goes: " + f.Verdict.String()
	case f.Stays == worth.Sealed && f.Seal.Decided():
		said = "it stays, because it is sealed: " + f.Seal.String()
	case f.Stays == worth.Sealed:
		said = "it stays, because somebody sealed it by hand"
	case f.Stays == worth.Waiting:
		said = fmt.Sprintf("it stays until %s, because the list waits: %s", until(), f.Verdict)
	case f.Stays == worth.TooMuch:
		said = fmt.Sprintf("it stays until %s, because the list would take more than a fifth of the repository and waits once more: %s", until(), f.Verdict)
	case f.Stays == worth.InGrace:
		said = fmt.Sprintf("it stays until %s, because it was touched within the grace: %s", until(), f.Verdict)
	case f.Verdict.Decided():
		said = "it stays: " + f.Verdict.String()
	default:
		said = "it stays: no rule speaks of it"
	}
	switch {
	case !f.Goes && j.Day == 1:
		said += "; it would go tomorrow"
	case !f.Goes && j.Day > 1:
		said += fmt.Sprintf("; it would go in %d days", j.Day)
	}
	return said
}

func answersOf(all []rule.Answer) []api.RuleAnswer {
	shown := make([]api.RuleAnswer, len(all))
	for i, a := range all {
		shown[i] = api.RuleAnswer{Of: a.Of, Number: a.Number, Words: a.Words, Because: a.Because, Decides: a.Decides, WhyNot: a.Why}
	}
	return shown
}

func (d *door) askRetention(ctx context.Context, in *struct{ Body api.AskRetention }) (*desk.Reply[api.Asked], error) {
	return d.ask(ctx, record.EventRetentionAsked, work.Wish{Kind: sweep.KindRetention, Place: in.Body.Place}, "retention rules")
}
