package upkeep

import (
	"context"
	"errors"
	"time"

	"warthesis/internal/api"
	"warthesis/internal/httpd/callers"
	"warthesis/internal/httpd/management/desk"
	"warthesis/internal/oci"
	"warthesis/internal/record/runs"
	"warthesis/internal/work"
)

type runsInput struct {
	Kind   string `query:"kind" maxLength:"64" doc:"Only this kind"`
	State  string `query:"state" enum:"waiting,going,stopped,done,failed" doc:"Only those in this state"`
	Place  string `query:"place" maxLength:"255" doc:"Only those of this namespace or repository, which its owners may see"`
	Before int64  `query:"before" doc:"The next of the page before"`
	Limit  int    `query:"limit" minimum:"1" maximum:"1000" default:"100"`
}

func (d *door) runs(ctx context.Context, in *runsInput) (*desk.Reply[api.RunList], error) {
	filter := runs.Filter{Kind: in.Kind, State: runs.State(in.State), Before: in.Before, Limit: in.Limit + 1}
	if err := d.maySeeRuns(ctx, in.Place, &filter); err != nil {
		return nil, desk.Refusal(err)
	}
	rows, err := d.Records.View(ctx).Runs().List(filter)
	list := api.RunList{Runs: make([]api.Run, min(len(rows), in.Limit))}
	for i := range list.Runs {
		list.Runs[i] = d.runOf(rows[i])
	}
	if len(rows) > in.Limit {
		list.Next = rows[in.Limit-1].ID
	}
	return desk.OK(list, err)
}

// maySeeRuns refuses whoever may not see the runs of a place or, with none, of the registry.
func (d *door) maySeeRuns(ctx context.Context, place string, filter *runs.Filter) error {
	c := callers.From(ctx)
	if place == "" {
		return d.Access.MaySeeRuns(c)
	}
	name, err := oci.ParseName(place)
	if err != nil {
		return err
	}
	key, missing := d.Access.Place(ctx, name)
	if !d.Access.SeesRuns(c) {
		if err := d.Upkeep.MayRunIn(ctx, c, name); err != nil {
			return err
		}
	}
	filter.NamespaceID, filter.RepositoryID = key.NamespaceID, key.RepositoryID
	return missing
}

// RunInput names a run. It is exported for the API library.
type RunInput struct {
	ID int64 `path:"id" minimum:"1"`
}

func (d *door) run(ctx context.Context, in *RunInput) (*desk.Reply[api.Run], error) {
	row, err := d.seenRun(ctx, in.ID)
	return desk.OK(d.runOf(row), err)
}

// seenRun returns a run that the caller may see. Whoever may see none is told the same of
// all.
func (d *door) seenRun(ctx context.Context, id int64) (runs.Run, error) {
	row, err := d.find(ctx, id)
	if may := d.Upkeep.MaySeeRun(ctx, callers.From(ctx), row); may != nil {
		return runs.Run{}, may
	}
	return row, err
}

// find returns a run, or says that there is none.
func (d *door) find(ctx context.Context, id int64) (runs.Run, error) {
	row, err := d.Records.View(ctx).Runs().Get(id)
	if errors.Is(err, runs.ErrNone) {
		err = oci.Errorf(oci.CodeNameUnknown, "there is no run %d here; runs that ended are kept for 90 days", id)
	}
	return row, err
}

func (d *door) stopRun(ctx context.Context, in *RunInput) (*desk.None, error) {
	row, err := d.find(ctx, in.ID)
	if may := d.Upkeep.MayStopRun(ctx, callers.From(ctx), row); may != nil {
		return nil, desk.Refusal(may)
	}
	if err != nil {
		return nil, desk.Refusal(err)
	}
	if row.Open() {
		err = d.Work.Stop(ctx, in.ID)
	}
	if !row.Open() || errors.Is(err, work.ErrUnknown) {
		err = oci.Errorf(oci.CodeInUse, "the run %d is over", row.ID)
	}
	return desk.Done(err)
}

func (d *door) runOf(row runs.Run) api.Run {
	// The records are a little behind what goes on.
	if now, open := d.Work.Run(row.ID); open {
		row = now
	}
	run := api.Run{
		ID: row.ID, Kind: row.Kind, Place: row.Place, Cause: string(row.Cause), AskedBy: d.NameOf(row.AskedBy), State: string(row.State),
		Step: row.Step, Done: row.Done, Total: row.Total, Unit: row.Unit, Report: row.Report, Error: row.Error, Tries: row.Tries,
		AskedAt: row.AskedAt.Time(), BeganAt: desk.Moment(row.BeganAt), EndedAt: desk.Moment(row.EndedAt),
	}
	d.factsOf(row, &run)
	return run
}

func (d *door) runKinds(ctx context.Context, _ *struct{}) (*desk.Reply[api.RunKindList], error) {
	if err := d.Access.MaySeeRuns(callers.From(ctx)); err != nil {
		return nil, desk.Refusal(err)
	}
	fares := d.Work.Fares()
	list := api.RunKindList{Kinds: make([]api.RunKind, len(fares))}
	for i, f := range fares {
		list.Kinds[i] = api.RunKind{Name: f.Kind.Name, About: f.Kind.About, When: f.Kind.When.String(), Light: f.Kind.Light, Failing: f.Failing}
		if !f.RanAt.IsZero() && f.Kind.Light {
			list.Kinds[i].RanAt = &f.RanAt
		}
		if !f.Kind.Light {
			// All others leave runs.
			last, err := d.Records.View(ctx).Runs().List(runs.Filter{Kind: f.Kind.Name, Limit: 1})
			if err != nil {
				return nil, desk.Refusal(err)
			}
			if len(last) > 0 {
				list.Kinds[i].RanAt = desk.Moment(last[0].BeganAt)
			}
		}
		if f.Next >= 0 {
			seconds := int64(f.Next / time.Second)
			list.Kinds[i].NextIn = &seconds
		}
	}
	return desk.OK(list, nil)
}
