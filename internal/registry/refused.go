package registry

import (
	"context"
	"errors"
	"fmt"
	"time"

	"warthesis/internal/oci"
	"warthesis/internal/record"
	"warthesis/internal/record/seals"
	"warthesis/internal/record/tagnames"
	"warthesis/internal/rule"
)

// inWords says why a name could not be used, or a tag not be changed.
func (r *Registry) inWords(ctx context.Context, in record.Repository, err error) error {
	var held *tagnames.HeldError
	var sealed *seals.Sealed
	switch {
	case errors.As(err, &held):
		account, _ := r.records.Rights().Account(held.By)
		left := time.Duration(held.Until - int64(r.clock.Served())).Round(time.Second)
		return oci.Errorf(oci.CodeDenied, "the name %s is held in %s for %s, for about %s more; ask for the next version, or take another name", held.Name, in.Name, account.Name, left)
	case errors.As(err, &sealed):
		return r.sealedInWords(ctx, in, sealed)
	}
	return err
}

// checkSeals refuses a push that would move a sealed tag before its bytes are kept; what
// counts is the same question inside the change.
func (r *Registry) checkSeals(ctx context.Context, to target, tags []oci.Tag, digest oci.Digest) error {
	if to.id == 0 {
		return nil
	}
	view := r.records.View(ctx)
	for _, tag := range tags {
		is, err := r.records.TagTarget(ctx, to.id, tag)
		if errors.Is(err, record.ErrNotFound) || err == nil && is == digest {
			continue
		}
		if err != nil {
			return err
		}
		in, err := view.LiveRepository(to.id)
		if err != nil {
			// The change says what became of it.
			return nil
		}
		state, err := view.SealTagOf(to.id, tag)
		if errors.Is(err, record.ErrNotFound) {
			continue
		}
		if err == nil {
			err = view.Seals(in, int64(r.clock.Served())).Check(state)
		}
		if err != nil {
			return r.inWords(ctx, in, err)
		}
	}
	return nil
}

// SealedTag is the detail of a refusal because a tag is sealed.
type SealedTag struct {
	Tag oci.Tag `json:"tag"`
	// Digest is what it points to, and stays at.
	Digest oci.Digest `json:"digest"`
	// Rule is the rule in its own words, "" where somebody sealed the tag by hand.
	Rule    string `json:"rule,omitempty"`
	Because string `json:"because,omitempty"`
	// Next is the next free version, "" where the tag is none.
	Next oci.Tag `json:"next,omitempty"`
}

// sealedInWords tells the tag, what it points to, the rule and its reason, and what to do.
func (r *Registry) sealedInWords(ctx context.Context, in record.Repository, s *seals.Sealed) error {
	d := SealedTag{Tag: s.Tag.Name, Digest: s.Tag.Digest, Rule: s.Verdict.Words, Because: s.Verdict.Because}
	if s.ByHand() {
		d.Because = s.Tag.SealReason
	}
	advice := "use another tag, or ask an owner to change that"
	if d.Next = r.behind(ctx, in, s.Tag.Name); d.Next != "" {
		advice = fmt.Sprintf("use another tag, such as %s, the next free version, or ask an owner to change that", d.Next)
	}
	return &oci.Error{
		Code:    oci.CodeDenied,
		Message: fmt.Sprintf("the tag %s of %s is sealed and stays at %s: %s; %s", d.Tag, s.Repository, d.Digest, r.WhySealed(s), advice),
		Detail:  d,
	}
}

// behind returns the next free version behind a tag that is one, or "".
func (r *Registry) behind(ctx context.Context, in record.Repository, tag oci.Tag) oci.Tag {
	prefix, _, is := rule.SplitVersion(string(tag))
	if !is {
		return ""
	}
	// It is a help: where it cannot be had, the refusal stands without it.
	next, err := r.records.View(ctx).TagNames(in.ID, int64(r.clock.Served())).Next(rule.Step{Part: rule.Patch, Prefix: prefix})
	if err != nil {
		return ""
	}
	return next
}

// WhySealed says by which rule a tag is sealed, or by whom.
func (r *Registry) WhySealed(s *seals.Sealed) string { return r.records.WhySealed(s) }
