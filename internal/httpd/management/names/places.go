package names

import (
	"warthesis/internal/access"
	"warthesis/internal/api"
	"warthesis/internal/httpd/management/desk"
	"warthesis/internal/record"
)

// The words of the API for what the records leave empty.
const (
	inherited = "inherited"
	nobody    = "nobody"
)

func changeOf(p api.PlaceChange) (access.PlaceChange, error) {
	change := access.PlaceChange{
		Description: p.Description, Labels: (*record.Labels)(p.Labels), Open: p.Open,
		NewDescription: p.NewDescription, NewLabels: (*record.Labels)(p.NewLabels), LogPulls: p.LogPulls, Rename: p.Rename, OverSeals: p.OverSeals,
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
	if p.RestoreWindow != nil {
		window, err := desk.ReadSpan("restore_window", *p.RestoreWindow)
		if err != nil {
			return change, err
		}
		change.RestoreWindow = &window
	}
	return change, nil
}
