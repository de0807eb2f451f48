package names

import (
	"context"
	"slices"
	"time"

	"warthesis/internal/access"
	"warthesis/internal/api"
	"warthesis/internal/httpd/callers"
	"warthesis/internal/httpd/management/desk"
	"warthesis/internal/record"
	"warthesis/internal/record/removals"
)

// mostRemoved is how many removed places are listed.
const mostRemoved = 1000

// Removed lists what the caller could restore.
func (d *door) removed(ctx context.Context, _ *struct{}) (*desk.Reply[api.RemovedList], error) {
	c := callers.From(ctx)
	list := api.RemovedList{Removed: []api.Removed{}}
	rows, err := d.Records.View(ctx).ListRemovals(removals.Filter{Places: true, Limit: mostRemoved}, d.Upkeep.SeesRemovals(c))
	for _, row := range rows {
		if d.Upkeep.CanUndo(ctx, c, row) {
			list.Removed = append(list.Removed, api.Removed{
				Repository: row.Kind == string(record.RemovalOfRepository), Name: row.Place(), RemovedAt: record.Stamp(row.RemovedAt).Time(), RemovedBy: d.NameOf(row.RemovedBy), Removal: row.ID,
			})
		}
	}
	slices.SortStableFunc(list.Removed, func(a, b api.Removed) int { return b.RemovedAt.Compare(a.RemovedAt) })
	return desk.OK(list, err)
}

// RemovingInput says how a place is removed. It is exported for the API library.
type RemovingInput struct {
	Reason    string `query:"reason" maxLength:"500" doc:"Why, for the list of removals"`
	OverSeals string `query:"over_seals" maxLength:"500" doc:"Why it goes although tags in it are sealed; for registry admins"`
}

func (in RemovingInput) removing() access.Removing {
	return access.Removing{Reason: in.Reason, OverSeals: in.OverSeals}
}

// removedBy answers by which removal something went.
func (d *door) removedBy(ctx context.Context, id int64) (*desk.Reply[api.RemovedBy], error) {
	row, err := d.Records.View(ctx).Removals().Get(id)
	window := d.Access.Settings().Window(time.Duration(row.Window))
	return desk.OK(api.RemovedBy{Removal: id, Until: d.Upkeep.Clock.Now().Add(window)}, err)
}
