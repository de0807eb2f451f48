package names

import (
	"warthesis/internal/access"
	"warthesis/internal/api"
	"warthesis/internal/record"
)

// The words of the API for what the records leave empty.
const (
	inherited = "inherited"
	nobody    = "nobody"
)

func changeOf(p api.PlaceChange) access.PlaceChange {
	change := access.PlaceChange{
		Description: p.Description, Labels: (*record.Labels)(p.Labels), Open: p.Open,
		NewDescription: p.NewDescription, NewLabels: (*record.Labels)(p.NewLabels), LogPulls: p.LogPulls, Rename: p.Rename,
	}
	if p.Visibility != nil {
		v := record.Visibility(*p.Visibility)
		if v == inherited {
			v = record.VisibilityInherited
		}
		change.Visibility = &v
	}
	if p.PushMakes != nil {
		r := record.Role(*p.PushMakes)
		if r == nobody {
			r = record.NoRole
		}
		change.PushMakes = &r
	}
	return change
}
