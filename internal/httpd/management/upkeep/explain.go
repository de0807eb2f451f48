package upkeep

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	rights "warthesis/internal/access"
	"warthesis/internal/api"
	"warthesis/internal/httpd/callers"
	"warthesis/internal/httpd/management/desk"
	"warthesis/internal/oci"
	"warthesis/internal/record"
	"warthesis/internal/record/chains"
	"warthesis/internal/record/removals"
	"warthesis/internal/record/seals"
	"warthesis/internal/sweep"
)

type explainInput struct {
	Digest     string `query:"digest" required:"true" maxLength:"256"`
	Repository string `query:"repository" maxLength:"255" doc:"Only in this repository"`
}

// explain tells why content is here. Of content that is only where the caller may not see
// it, and of what is not here, the same is told.
func (d *door) explain(ctx context.Context, in *explainInput) (*desk.Reply[api.ContentExplanation], error) {
	digest, err := oci.ParseDigest(in.Digest)
	if err == nil {
		err = d.Access.AsLoggedIn(callers.From(ctx))
	}
	if err != nil {
		return nil, desk.Refusal(err)
	}
	end, err := d.Upkeep.Look(callers.From(ctx))
	if err != nil {
		return nil, desk.Refusal(err)
	}
	defer end()
	seen := d.Seen(ctx)
	records := d.Records.View(ctx).Chains(seen)
	content, err := records.Content(digest)
	if err != nil {
		return nil, desk.Refusal(err)
	}
	shown := api.ContentExplanation{Digest: digest, Holders: []api.Holder{}}
	// It is asked for what is not here as well, so that both take as long.
	holders, more, err := records.Holders(content.ID)
	if err == nil {
		holders, err = d.known(ctx, holders)
	}
	if err != nil {
		return nil, desk.Refusal(err)
	}
	shown.More = more
	if in.Repository != "" {
		holders = ofName(holders, oci.Name(in.Repository))
	}
	// Whoever does not see all learns of content by the repositories that it sees alone.
	if len(holders) == 0 && (!content.Here || !records.Everything || in.Repository != "") {
		return nil, desk.Refusal(oci.Errorf(oci.CodeBlobUnknown, "there is no content %s here that you may know of", digest))
	}
	shown.Size = content.Size
	if content.State != "whole" && content.Here {
		if h, err := d.Records.View(ctx).Hurts().Get(digest); err == nil {
			shown.Hurt = string(h.What)
		}
	}
	shown.NextSweep = d.nextSweep()
	for _, h := range holders {
		one, err := d.holderOf(ctx, h)
		if err != nil {
			return nil, desk.Refusal(err)
		}
		shown.Holders = append(shown.Holders, one)
	}
	shown.Says = d.sayContent(content, &shown)
	return desk.OK(shown, nil)
}

// known leaves out what was removed, for whoever may not bring it back: to readers it is
// gone.
func (d *door) known(ctx context.Context, holders []chains.Holder) (rest []chains.Holder, err error) {
	for _, h := range holders {
		v, err := d.Access.Verdict(ctx, callers.From(ctx), h.Name, rights.Delete)
		if err != nil {
			return nil, err
		}
		if !v.Allowed {
			h.Chains = slices.DeleteFunc(h.Chains, func(chain chains.Chain) bool {
				return slices.ContainsFunc(chain, func(l chains.Link) bool { return l.RemovalID != 0 })
			})
			if len(h.Chains) == 0 && (!h.Held || h.EndedRemovalID != 0) {
				continue
			}
		}
		rest = append(rest, h)
	}
	return rest, nil
}

func ofName(holders []chains.Holder, name oci.Name) (rest []chains.Holder) {
	for _, h := range holders {
		if h.Name == name {
			rest = append(rest, h)
		}
	}
	return rest
}

// nextSweep is when the next sweep runs by itself, nil for never.
func (d *door) nextSweep() *time.Time {
	for _, f := range d.Work.Fares() {
		if f.Kind.Name == sweep.KindSweep && f.Next >= 0 {
			at := d.Upkeep.Clock.Now().Add(f.Next)
			return &at
		}
	}
	return nil
}

// in returns about when a moment of served time is, in wall time.
func (d *door) in(served int64) *time.Time {
	at := d.Upkeep.Clock.Now().Add(time.Duration(served) - d.Upkeep.Clock.Served())
	return &at
}

func (d *door) sayContent(content chains.Content, shown *api.ContentExplanation) string {
	switch {
	case len(shown.Holders) == 1:
		return fmt.Sprintf("%s has it: %s", shown.Holders[0].Repository, shown.Holders[0].Says)
	case len(shown.Holders) > 1:
		more := ""
		if shown.More {
			more = " and more"
		}
		return fmt.Sprintf("%d%s repositories have it; it stays as long as one of them does", len(shown.Holders), more)
	}
	shown.GoesAfter = d.in(content.TouchedServed + int64(d.Upkeep.Grace))
	return "no repository has it: its bytes go with the first sweep after the grace"
}

// holderOf says why a repository has content.
func (d *door) holderOf(ctx context.Context, h chains.Holder) (api.Holder, error) {
	one := api.Holder{Repository: h.Name, Chains: [][]api.Link{}, More: h.More, Seals: []oci.Tag{}}
	sealed := map[oci.Tag]bool{}
	var live, gone []string
	for _, chain := range h.Chains {
		links := make([]api.Link, len(chain))
		removal := int64(0)
		for i, l := range chain {
			links[i] = api.Link{Kind: l.Kind, Tag: l.Tag, Digest: l.Digest, As: l.As, Sealed: l.Sealed}
			if l.RemovalID != 0 {
				by, err := d.removedBy(ctx, l.RemovalID)
				if err != nil {
					return one, err
				}
				links[i].RemovedBy = by
				removal = l.RemovalID
			}
			if l.Kind == "tag" && l.RemovalID == 0 && !sealed[l.Tag] {
				sealed[l.Tag] = true
				seal, err := d.isSealed(ctx, h, l.Tag)
				if err != nil {
					return one, err
				}
				if links[i].Sealed = seal; seal {
					one.Seals = append(one.Seals, l.Tag)
				}
			}
		}
		one.Chains = append(one.Chains, links)
		said := sayChain(chain)
		if removal == 0 && h.PlaceRemovalID == 0 {
			live = append(live, said)
		} else {
			gone = append(gone, said)
		}
	}
	return d.saysOf(ctx, h, one, live, gone)
}

func sayChain(chain chains.Chain) string {
	switch first := chain[0]; {
	case first.Kind == "tag" && len(chain) == 2:
		return fmt.Sprintf("the tag %s points to it", first.Tag)
	case first.Kind == "tag":
		return fmt.Sprintf("the tag %s has it in it", first.Tag)
	case len(chain) == 1:
		return "it is an image without a tag, which stays until somebody or a rule removes it"
	default:
		return fmt.Sprintf("the %s %s, which no tag points to, has it in it", first.Kind, first.Digest)
	}
}

func (d *door) saysOf(ctx context.Context, h chains.Holder, one api.Holder, live, gone []string) (api.Holder, error) {
	switch {
	case len(live) > 0:
		one.Says = live[0]
		if n := len(live) - 1; n > 0 {
			one.Says += fmt.Sprintf(", and %d more", n)
		}
		return one, nil
	case h.PlaceRemovalID != 0:
		by, err := d.removedBy(ctx, h.PlaceRemovalID)
		if err == nil {
			one.Says = fmt.Sprintf("the place is removed, by the removal %d, and can come back until its restore window is over", h.PlaceRemovalID)
			one.GoesAfter = &by.Until
		}
		return one, err
	case len(gone) > 0:
		one.Says = "what has it in it was removed, and can come back until the restore window is over"
		for _, chain := range one.Chains {
			for _, l := range chain {
				if l.RemovedBy != nil && (one.GoesAfter == nil || l.RemovedBy.Until.After(*one.GoesAfter)) {
					one.GoesAfter = &l.RemovedBy.Until
				}
			}
		}
		return one, nil
	case h.EndedRemovalID != 0:
		by, err := d.removedBy(ctx, h.EndedRemovalID)
		if err == nil {
			one.Says = fmt.Sprintf("it was removed here by the removal %d, and can come back until the restore window is over", h.EndedRemovalID)
			one.GoesAfter = &by.Until
		}
		return one, err
	case h.UploadServed != 0 && h.UploadServed <= h.TouchedServed:
		one.Says = "no manifest names it; it stays while the upload is open that began before it came"
		return one, nil
	}
	one.Says = "no manifest names it; the first sweep after the grace lets go of it"
	one.GoesAfter = d.in(h.TouchedServed + int64(d.Upkeep.Grace))
	return one, nil
}

// removedBy says until about when a removal can be undone.
func (d *door) removedBy(ctx context.Context, id int64) (*api.RemovedBy, error) {
	row, err := d.Records.View(ctx).Removals().Get(id)
	if err != nil {
		return nil, err
	}
	return &api.RemovedBy{Removal: id, Until: *d.untilOf(row)}, nil
}

// untilOf is about when the window of a removal ends or ended.
func (d *door) untilOf(row removals.Row) *time.Time {
	return d.in(row.RemovedServed + int64(d.Access.Settings().Window(time.Duration(row.Window))))
}

// isSealed reports whether a tag is sealed, by hand or by a rule.
func (d *door) isSealed(ctx context.Context, h chains.Holder, tag oci.Tag) (bool, error) {
	view := d.Records.View(ctx)
	state, err := view.SealTagOf(h.ID, tag)
	if err != nil {
		return false, err
	}
	err = view.Seals(record.Repository{ID: h.ID, NamespaceID: h.NamespaceID, Name: h.Name}, int64(d.Upkeep.Clock.Served())).Check(state)
	var sealed *seals.Sealed
	if errors.As(err, &sealed) {
		return true, nil
	}
	return false, err
}
