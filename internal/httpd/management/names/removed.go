package names

import (
	"context"

	"warthesis/internal/api"
	"warthesis/internal/httpd/callers"
	"warthesis/internal/httpd/management/desk"
)

// mostRemoved is how many removed places are listed.
const mostRemoved = 1000

// Removed lists what the caller could restore.
func (d *door) removed(ctx context.Context, _ *struct{}) (*desk.Reply[api.RemovedList], error) {
	rows, err := d.Access.RemovedPlaces(ctx, callers.From(ctx), mostRemoved)
	list := api.RemovedList{Removed: make([]api.Removed, len(rows))}
	for i, row := range rows {
		list.Removed[i] = api.Removed{Repository: row.Repository, Name: row.Name, RemovedAt: row.RemovedAt.Time(), RemovedBy: d.NameOf(row.RemovedBy)}
	}
	return desk.OK(list, err)
}
