package desk

import (
	"strings"
	"time"

	"warthesis/internal/api"
	"warthesis/internal/record"
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

// Words returns the words of a text, as a list that is never null.
func Words(s string) []string { return append([]string{}, strings.Fields(s)...) }

// LabelsOf returns labels as the API has them.
func LabelsOf(l record.Labels) api.Labels {
	if l == nil {
		return api.Labels{}
	}
	return api.Labels(l)
}
