package desk

import (
	"strings"
	"time"

	"warthesis/internal/api"
	"warthesis/internal/oci"
	"warthesis/internal/record"
	"warthesis/internal/record/seals"
	"warthesis/internal/rule"
)

// List returns a list that is never null.
func List(s []string) []string { return append([]string{}, s...) }

// NameOf returns what an account is called, "" for nobody.
func (d *Desk) NameOf(account int64) string {
	found, _ := d.Records.Rights().Account(account)
	return found.Name
}

// Moment is absent for never.
func Moment(s record.Stamp) *time.Time {
	if s == 0 {
		return nil
	}
	t := s.Time()
	return &t
}

// SpanOf writes a span of time, "" for none.
func SpanOf(d time.Duration) string {
	if d == 0 {
		return ""
	}
	return rule.Span(d).String()
}

// ReadSpan reads a span of time, none for "".
func ReadSpan(what, s string) (time.Duration, error) {
	if s == "" {
		return 0, nil
	}
	span, err := rule.ParseSpan(s)
	if err != nil {
		return 0, oci.Errorf(oci.CodeQueryInvalid, "%s: %s", what, err)
	}
	return span.Duration(), nil
}

// SealOf says why a tag is sealed; nil where it is not.
func (d *Desk) SealOf(s *seals.Sealed) *api.Seal {
	if s == nil {
		return nil
	}
	shown := &api.Seal{Rule: s.Verdict.Words, Of: s.Verdict.Of, Number: s.Verdict.Number, Reason: s.Verdict.Because, Why: d.Registry.WhySealed(s)}
	if s.ByHand() {
		shown.By, shown.At, shown.Reason = d.NameOf(s.Tag.SealedBy), Moment(record.Stamp(s.Tag.SealedAt)), s.Tag.SealReason
	}
	return shown
}

// Words returns the words of a text, as a list that is never null.
func Words(s string) []string { return append([]string{}, strings.Fields(s)...) }

// LabelsOf returns labels as the API has them.
func LabelsOf(l record.Labels) api.Labels {
	if l == nil {
		return api.Labels{}
	}
	return api.Labels(l)
}
