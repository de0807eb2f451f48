// Package inwords says in words why a name could not be used, or a tag not be changed.
package inwords

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

// Of returns an error in words, where it is about a name or a seal in a repository, as of a
// served time in nanoseconds.
func Of(ctx context.Context, records *record.Store, served int64, in record.Repository, err error) error {
	var held *tagnames.HeldError
	var sealed *seals.Sealed
	switch {
	case errors.As(err, &held):
		account, _ := records.Rights().Account(held.By)
		left := time.Duration(held.Until - served).Round(time.Second)
		return oci.Errorf(oci.CodeDenied, "the name %s is held in %s for %s, for about %s more; ask for the next version, or take another name", held.Name, in.Name, account.Name, left)
	case errors.As(err, &sealed):
		return ofSeal(ctx, records, served, in, sealed)
	}
	return err
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

// ofSeal tells the tag, what it points to, the rule and its reason, and what to do.
func ofSeal(ctx context.Context, records *record.Store, served int64, in record.Repository, s *seals.Sealed) error {
	d := SealedTag{Tag: s.Tag.Name, Digest: s.Tag.Digest, Rule: s.Verdict.Words, Because: s.Verdict.Because}
	if s.ByHand() {
		d.Because = s.Tag.SealReason
	}
	advice := "use another tag, or ask an owner to change that"
	if d.Next = behind(ctx, records, served, in, s.Tag.Name); d.Next != "" {
		advice = fmt.Sprintf("use another tag, such as %s, the next free version, or ask an owner to change that", d.Next)
	}
	return &oci.Error{
		Code:    oci.CodeDenied,
		Message: fmt.Sprintf("the tag %s of %s is sealed and stays at %s: %s; %s", d.Tag, s.Repository, d.Digest, records.WhySealed(s), advice),
		Detail:  d,
	}
}

// behind returns the next free version behind a tag that is one, or "".
func behind(ctx context.Context, records *record.Store, served int64, in record.Repository, tag oci.Tag) oci.Tag {
	prefix, _, is := rule.SplitVersion(string(tag))
	if !is {
		return ""
	}
	// It is a help: where it cannot be had, the refusal stands without it.
	next, err := records.View(ctx).TagNames(in.ID, served).Next(rule.Step{Part: rule.Patch, Prefix: prefix})
	if err != nil {
		return ""
	}
	return next
}
