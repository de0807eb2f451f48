package upkeep

import (
	"cmp"
	"context"
	"time"

	access "warthesis/internal/access/upkeep"
	"warthesis/internal/api"
	"warthesis/internal/httpd/callers"
	"warthesis/internal/httpd/management/desk"
	"warthesis/internal/oci"
	"warthesis/internal/record"
	"warthesis/internal/record/seals"
	"warthesis/internal/rule"
	"warthesis/internal/sweep"
)

// RulesInput says where a list stands. It is exported for the API library.
type RulesInput struct {
	Kind  string `query:"kind" enum:"immutability,retention" default:"immutability" doc:"Which rules"`
	Place string `query:"place" maxLength:"255" doc:"A namespace or a repository; with no name either, the registry"`
	List  string `query:"list" maxLength:"64" doc:"A list's own name, instead of a place"`
}

func (in RulesInput) at() (access.At, error) {
	at := access.At{Kind: in.Kind, List: in.List}
	if in.Place == "" {
		return at, nil
	}
	if in.List != "" {
		return at, oci.Errorf(oci.CodeQueryInvalid, "a list with a name stands at no place: give one of place and list")
	}
	var err error
	at.Place, err = oci.ParseName(in.Place)
	return at, err
}

func (d *door) rules(ctx context.Context, in *RulesInput) (*desk.Reply[api.RuleList], error) {
	at, err := in.at()
	if err != nil {
		return nil, desk.Refusal(err)
	}
	found, err := d.Upkeep.Rules(ctx, callers.From(ctx), at)
	return desk.OK(d.listOf(found), err)
}

func (d *door) listOf(found access.RuleList) api.RuleList {
	list := api.RuleList{
		Kind: found.Kind, Place: found.At.Place, List: found.At.List, Words: found.Words, Reason: found.Reason,
		ChangedAt: desk.Moment(record.Stamp(found.ChangedAt)), ChangedBy: d.NameOf(found.ChangedBy), Rules: []api.Rule{}, UsedBy: []string{},
	}
	for i, r := range found.Rules {
		list.Rules = append(list.Rules, api.Rule{Number: i + 1, Words: r.Words, Because: r.Because, Line: r.Line, Use: r.Use})
	}
	for _, at := range found.UsedBy {
		list.UsedBy = append(list.UsedBy, at.String())
	}
	if list.Kind == "" {
		list.Kind = cmp.Or(found.At.Kind, rule.Immutability.Name)
	}
	if list.Kind == rule.Retention.Name {
		d.retentionOf(found, &list)
	}
	return list
}

// retentionOf adds what is told of a list of retention rules.
func (d *door) retentionOf(found access.RuleList, list *api.RuleList) {
	list.Waits, list.Reaches, list.UnknownInUse, list.NextRun = found.Waits, found.Reaches, desk.List(found.Unknown), d.nextRun(sweep.KindRetention)
	if found.Waits {
		at := d.about(found.ActsServed)
		list.ActsAt = &at
	}
	for _, w := range found.Waiting {
		list.Waiting = append(list.Waiting, api.RuleWaiting{Repository: w.Repository, Until: d.about(w.UntilServed), Takes: w.Takes, OutOf: w.OutOf})
	}
}

func (d *door) ruleLists(ctx context.Context, in *struct {
	Kind string `query:"kind" enum:"immutability,retention" default:"immutability" doc:"Which rules"`
}) (*desk.Reply[api.RuleLists], error) {
	all, err := d.Upkeep.NamedLists(ctx, callers.From(ctx), in.Kind)
	lists := api.RuleLists{Lists: make([]api.RuleList, len(all))}
	for i, one := range all {
		lists.Lists[i] = d.listOf(one)
	}
	return desk.OK(lists, err)
}

func (d *door) setRules(ctx context.Context, in *struct {
	RulesInput
	Body api.SetRules
}) (*desk.None, error) {
	at, err := in.at()
	if err != nil {
		return nil, desk.Refusal(err)
	}
	return desk.Done(d.Upkeep.SetRules(ctx, callers.From(ctx), at, in.Body.Words, in.Body.Reason))
}

func (d *door) removeRules(ctx context.Context, in *struct {
	RulesInput
	Reason string `query:"reason" maxLength:"500" doc:"Why, for the audit log"`
}) (*desk.None, error) {
	at, err := in.at()
	if err != nil {
		return nil, desk.Refusal(err)
	}
	return desk.Done(d.Upkeep.RemoveRules(ctx, callers.From(ctx), at, in.Reason))
}

func (d *door) previewRules(ctx context.Context, in *struct {
	RulesInput
	Body api.TryRules
}) (*desk.Reply[api.RulePreview], error) {
	at, err := in.at()
	if err != nil {
		return nil, desk.Refusal(err)
	}
	if in.Kind == rule.Retention.Name {
		return nil, desk.Refusal(oci.Errorf(oci.CodeQueryInvalid, "what retention rules would do is asked at /api/v1/retention/preview"))
	}
	p, err := d.Upkeep.PreviewRules(ctx, callers.From(ctx), at, in.Body.Words)
	if err != nil {
		return nil, desk.Refusal(err)
	}
	shown := api.RulePreview{
		Reaches: p.Reaches, Repositories: append([]oci.Name{}, p.Names...), Tags: p.Tags, Sealed: p.Sealed, NewlySealed: p.New, Freed: p.Free,
		Seals: d.previewed(p.NewlySealed), Frees: d.previewed(p.Freed), Refused: p.Refused, Refusals: []api.Refusal{}, More: p.More,
	}
	for _, r := range p.Refusals {
		act := "remove"
		if r.Moved {
			act = "move"
		}
		shown.Refusals = append(shown.Refusals, api.Refusal{
			Repository: r.Repository, Tag: r.Tag, Act: act, At: record.Stamp(r.At).Time(), By: d.NameOf(r.By), Why: r.Verdict.String(),
		})
	}
	if in.Body.Repository == "" && in.Body.Tag == "" {
		return desk.OK(shown, nil)
	}
	if _, err := oci.ParseName(string(in.Body.Repository)); err != nil {
		return nil, desk.Refusal(err)
	}
	if _, err := oci.ParseTag(string(in.Body.Tag)); err != nil {
		return nil, desk.Refusal(err)
	}
	if err := d.Visible(ctx, in.Body.Repository); err != nil {
		return nil, desk.Refusal(err)
	}
	e, err := d.Upkeep.Try(ctx, callers.From(ctx), at, in.Body.Words, in.Body.Repository, in.Body.Tag)
	tried := d.explained(in.Body.Repository, in.Body.Tag, e)
	shown.Tried = &tried
	return desk.OK(shown, err)
}

func (d *door) previewed(all []seals.Sealed) []api.PreviewedSeal {
	shown := make([]api.PreviewedSeal, len(all))
	for i, s := range all {
		shown[i] = api.PreviewedSeal{Repository: s.Repository, Tag: s.Tag.Name, Digest: s.Tag.Digest, Why: d.Registry.WhySealed(&s)}
	}
	return shown
}

func (d *door) explainRules(ctx context.Context, in *struct {
	desk.RepositoryInput
	Kind string `query:"kind" enum:"immutability" default:"immutability" doc:"Which rules"`
	Tag  string `query:"tag" required:"true" maxLength:"128" doc:"The tag, which need not be there"`
}) (*desk.Reply[api.RuleExplanation], error) {
	name, err := oci.ParseName(in.Repository)
	if err == nil {
		_, err = oci.ParseTag(in.Tag)
	}
	if err == nil {
		err = d.Visible(ctx, name)
	}
	if err != nil {
		return nil, desk.Refusal(err)
	}
	e, err := d.Upkeep.Explain(ctx, callers.From(ctx), name, oci.Tag(in.Tag))
	return desk.OK(d.explained(name, oci.Tag(in.Tag), e), err)
}

func (d *door) explained(name oci.Name, tag oci.Tag, e access.Explained) api.RuleExplanation {
	shown := api.RuleExplanation{
		Repository: name, Tag: tag, There: e.There, Digest: e.Tag.Digest, Seal: d.SealOf(e.Sealed), Hidden: e.Hidden,
	}
	shown.Answers = answersOf(e.Answers)
	return shown
}

// window returns until about when something that goes now could come back.
func (d *door) window(namespace time.Duration) time.Time {
	return d.Upkeep.Clock.Now().Add(d.Access.Settings().Window(namespace))
}
