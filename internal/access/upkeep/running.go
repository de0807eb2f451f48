package upkeep

import (
	"context"
	"fmt"
	"time"

	"warthesis/internal/access"
	"warthesis/internal/oci"
	"warthesis/internal/record"
	"warthesis/internal/record/runs"
)

// AskRun refuses whoever may not let a sweep or a scrub run in a place, which takes an
// owner there or, of the registry, an admin, and logs that it was asked for. It returns the
// place by number. What it fails with tells nothing of places that the caller may not know.
func (u *Upkeep) AskRun(ctx context.Context, c access.Caller, kind record.EventKind, place oci.Name, what string) (record.GrantKey, error) {
	key, missing := u.Access.Place(ctx, place)
	if err := u.MayRunIn(ctx, c, place); err != nil {
		return key, err
	}
	if missing != nil {
		return key, missing
	}
	asked, err := u.Records.View(ctx).Runs().Asked(c.Account.ID, int64(u.Clock.Served()-time.Hour))
	if err != nil {
		return key, err
	}
	if asked >= mostAsked && !c.Account.Admin {
		return key, oci.Errorf(oci.CodeTooManyRequests, "%s asked for %d runs within an hour; what a sweep leaves is taken by the one of the night", c.Who(), asked)
	}
	e := c.Event(kind)
	if place != "" {
		e = c.PlaceEvent(kind, place)
	}
	e.Detail = what
	return key, u.Access.ChangeIn(ctx, c, e, func(tx *record.Tx) (record.Event, error) { return access.LivePlace(tx, key) })
}

// mostAsked is how many runs one account may ask for in an hour of service, admins aside.
const mostAsked = 60

// MayRunIn refuses whoever may not let sweeps and scrubs run in a place.
func (u *Upkeep) MayRunIn(ctx context.Context, c access.Caller, place oci.Name) error {
	if place == "" {
		return u.Access.Admin(c, "run sweeps and scrubs of the registry")
	}
	return u.Access.MayManage(ctx, c, place)
}

// MaySeeRun refuses whoever may not see a run: those with a role on the registry may, and
// owners those of their places.
func (u *Upkeep) MaySeeRun(ctx context.Context, c access.Caller, run runs.Run) error {
	if run.Place != "" && u.owns(ctx, c, run) {
		return nil
	}
	return u.Access.MaySeeRuns(c)
}

// owns reports whether the caller is an owner of the place of a run, which is the very
// place of then.
func (u *Upkeep) owns(ctx context.Context, c access.Caller, run runs.Run) bool {
	name := oci.Name(run.Place)
	key, err := u.Access.Place(ctx, name)
	if err != nil || key.NamespaceID != run.NamespaceID || key.RepositoryID != run.RepositoryID {
		return false
	}
	if name.Namespace() == string(name) {
		name += "/"
	}
	v, err := u.Access.Verdict(ctx, c, name, access.Manage)
	return err == nil && v.Allowed
}

// MayStopRun refuses whoever may not stop a run, and logs that one was stopped.
func (u *Upkeep) MayStopRun(ctx context.Context, c access.Caller, run runs.Run) error {
	if run.Place == "" || !u.owns(ctx, c, run) {
		if err := u.Access.Admin(c, "stop runs"); err != nil {
			return err
		}
	}
	if !run.Open() {
		return nil
	}
	e := c.Event(record.EventRunStopped)
	e.Subject = fmt.Sprintf("run %d", run.ID)
	e.Detail = run.Kind
	if run.Place != "" {
		e.Detail += " of " + run.Place
	}
	return u.Access.Change(ctx, c, e, func(*record.Tx) error { return nil })
}
