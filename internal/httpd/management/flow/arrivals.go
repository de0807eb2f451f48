package flow

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"time"

	"warthesis/internal/access"
	"warthesis/internal/api"
	"warthesis/internal/httpd/callers"
	"warthesis/internal/httpd/management/desk"
	"warthesis/internal/oci"
	"warthesis/internal/record"
	"warthesis/internal/record/arrivals"
	"warthesis/internal/record/quota"
)

// ArrivalInput names an arrival. It is exported for the API library.
type ArrivalInput struct {
	ID int64 `path:"id" minimum:"1"`
}

func noArrival(id int64) error {
	return oci.Errorf(oci.CodeNameUnknown, "nothing with the number %d is carried in; list what is with: warthesis arrival list", id)
}

func (d *door) arrivals(ctx context.Context, _ *struct{}) (*desk.Reply[api.ArrivalList], error) {
	c := callers.From(ctx)
	if c.Nobody() {
		return nil, desk.Refusal(oci.Errorf(oci.CodeUnauthorized, "not logged in: what is carried in is shown to who carries it, and to those with a role on the registry"))
	}
	of := c.Account.ID
	if d.Access.SeesRuns(c) {
		of = 0
	}
	all, err := d.Records.View(ctx).Arrivals().List(of)
	list := api.ArrivalList{Arrivals: []api.Arrival{}}
	for _, a := range all {
		mine := true
		if c.Bounded() && of != 0 && err == nil {
			mine, err = d.coversAll(ctx, c, a.ID)
		}
		if mine {
			list.Arrivals = append(list.Arrivals, d.arrivalOf(a))
		}
	}
	return desk.OK(list, err)
}

func (d *door) arrivalOf(a arrivals.Arrival) api.Arrival {
	shown := api.Arrival{
		ID: a.ID, Kind: string(a.Kind), Name: a.Name, Source: a.Source, By: d.NameOf(a.AccountID), State: string(a.State), BeganAt: a.BeganAt.Time(), HeardAt: a.HeardAt.Time(),
		EndedAt: desk.Moment(a.EndedAt), Images: a.Images, ImagesDone: a.ImagesDone, Lacks: a.Lacks, Bytes: a.Bytes, BytesDone: a.BytesDone, Rate: a.Rate, Says: a.Says,
	}
	if !a.Open() {
		return shown
	}
	shown.HeldFor = max(0, int64(time.Duration(a.UntilServed-int64(d.Records.Clock().Served()))/time.Second))
	if left := a.Bytes - a.BytesDone; a.State == arrivals.Going && a.Rate > 0 && left >= 0 {
		soon := left / a.Rate
		shown.EndsIn = &soon
	}
	return shown
}

// ofCaller returns an arrival that the caller may see: its own or, with a role on the
// registry, any.
func (d *door) ofCaller(ctx context.Context, id int64) (arrivals.Arrival, error) {
	c := callers.From(ctx)
	if c.Nobody() {
		return arrivals.Arrival{}, oci.Errorf(oci.CodeUnauthorized, "not logged in: what is carried in is shown to who carries it, and to those with a role on the registry")
	}
	a, err := d.Records.View(ctx).Arrivals().Get(id)
	if err == nil && a.AccountID == c.Account.ID && c.Bounded() && !d.Access.SeesRuns(c) {
		var covers bool
		if covers, err = d.coversAll(ctx, c, id); err == nil && !covers {
			err = arrivals.ErrNone
		}
	}
	if errors.Is(err, arrivals.ErrNone) || err == nil && a.AccountID != c.Account.ID && !d.Access.SeesRuns(c) {
		err = noArrival(id)
	}
	return a, err
}

// coversAll reports whether a bounded credential covers all repositories of an arrival of
// its account: the others are none of its business. One that has no repositories any longer
// it does not cover.
func (d *door) coversAll(ctx context.Context, c access.Caller, id int64) (bool, error) {
	places, err := d.Records.View(ctx).Arrivals().Places(id)
	if err != nil || len(places) == 0 {
		return false, err
	}
	return d.mayPushAll(ctx, c, id)
}

func (d *door) arrival(ctx context.Context, in *ArrivalInput) (*desk.Reply[api.Arrival], error) {
	a, err := d.ofCaller(ctx, in.ID)
	if err != nil {
		return nil, desk.Refusal(err)
	}
	shown := d.arrivalOf(a)
	if a.Report != nil {
		shown.Report = &api.CopyReport{}
		err = json.Unmarshal(a.Report, shown.Report)
	}
	// Whoever sees all runs does not thereby know of all repositories.
	if c := callers.From(ctx); a.AccountID == c.Account.ID || c.Account.Admin && c.Whole() {
		var wrong error
		shown.Places, wrong = d.Records.View(ctx).Arrivals().Places(a.ID)
		err = errors.Join(err, wrong)
	} else {
		shown.Report = nil
	}
	return desk.OK(shown, err)
}

func (d *door) makeArrival(ctx context.Context, in *struct{ Body api.MakeArrival }) (*desk.Reply[api.ArrivalAnswer], error) {
	c := callers.From(ctx)
	if c.Nobody() {
		return nil, desk.Refusal(oci.Errorf(oci.CodeUnauthorized, "not logged in: whoever carries something in must be allowed to push it"))
	}
	var names []oci.Name
	for _, place := range in.Body.Places {
		name, err := oci.ParseName(string(place.Repository))
		if err != nil {
			return nil, desk.Refusal(err)
		}
		if v, err := d.Access.MayPush(ctx, c, name); err != nil || !v.Allowed {
			if err == nil {
				err = d.May(ctx, name, access.Push)
			}
			if err == nil {
				err = oci.Errorf(oci.CodeDenied, "%s", v.Reason)
			}
			return nil, desk.Refusal(err)
		}
		names = append(names, name)
	}
	answer := api.ArrivalAnswer{Lacks: []string{}}
	var err error
	if answer.Lacks, err = d.lacksRoom(ctx, c, in.Body.Places); err != nil || in.Body.Ask {
		return desk.OK(answer, err)
	}
	slices.Sort(names)
	var made arrivals.Arrival
	e := c.Event(record.EventArrivalMade)
	e.Subject = in.Body.Name
	e.Detail = fmt.Sprintf("%s of %d images into %d repositories", in.Body.Kind, in.Body.Images, len(names))
	err = d.Access.Change(ctx, c, e, func(tx *record.Tx) (err error) {
		made, err = tx.Arrivals().Make(arrivals.Arrival{
			Kind: arrivals.Kind(in.Body.Kind), Name: in.Body.Name, Source: in.Body.Source, AccountID: c.Account.ID, State: arrivals.Going, BeganAt: tx.Now(), BeganServed: tx.Served(),
			UntilServed: tx.Served() + int64(time.Duration(in.Body.Days)*24*time.Hour), Days: int64(in.Body.Days), HeardAt: tx.Now(), HeardServed: tx.Served(), Images: in.Body.Images, Bytes: sumOf(in.Body.Places),
		}, slices.Compact(names))
		if errors.Is(err, arrivals.ErrMost) {
			err = oci.Errorf(oci.CodeDenied, "%s carries in %d things already, or all accounts %d; end one with: warthesis arrival stop", c.Account.Name, arrivals.MostOf, arrivals.MostOpen)
		}
		return err
	})
	if err != nil {
		return nil, desk.Refusal(err)
	}
	shown := d.arrivalOf(made)
	answer.Arrival = &shown
	return desk.OK(answer, nil)
}

func sumOf(places []api.ArrivalPlace) (bytes int64) {
	for _, place := range places {
		bytes += place.Bytes
	}
	return bytes
}

// lacksRoom says for what there is no room: within the quotas of namespaces and of the
// account, and on the disk, of which no more is told.
func (d *door) lacksRoom(ctx context.Context, c access.Caller, places []api.ArrivalPlace) ([]string, error) {
	lacks := []string{}
	view := d.Records.View(ctx).Quota()
	adds := map[string]int64{}
	var names []string
	for _, place := range places {
		if _, known := adds[place.Repository.Namespace()]; !known {
			names = append(names, place.Repository.Namespace())
		}
		adds[place.Repository.Namespace()] += place.Bytes
	}
	say := func(use quota.Use, more int64, whose string) {
		if use.Quota > 0 && use.Used+more > use.Quota {
			lacks = append(lacks, fmt.Sprintf("%s has %s left of its quota of %s, and %s would come", whose, quota.Bytes(use.Quota-use.Used), quota.Bytes(use.Quota), quota.Bytes(more)))
		}
	}
	for _, name := range names {
		n, there := d.Records.Rights().Namespace(name)
		if !there {
			continue
		}
		use, err := view.Namespace(n.ID)
		if err != nil {
			return nil, err
		}
		say(use, adds[name], "the namespace "+name)
	}
	use, err := view.Account(c.Account.ID)
	if err != nil {
		return nil, err
	}
	say(use, sumOf(places), "the account "+c.Account.Name)
	left, _, floor, err := d.Registry.Space()
	if err == nil && sumOf(places) > left-floor {
		lacks = append(lacks, fmt.Sprintf("the disk has no room for %s more", quota.Bytes(sumOf(places))))
	}
	return lacks, err
}

func (d *door) tellArrival(ctx context.Context, in *struct {
	ArrivalInput
	Body api.TellArrival
}) (*desk.Reply[api.Arrival], error) {
	c := callers.From(ctx)
	a, err := d.ofCaller(ctx, in.ID)
	if err == nil && a.AccountID != c.Account.ID {
		err = oci.Errorf(oci.CodeDenied, "only %s, who carries it in, tells how far it is", d.NameOf(a.AccountID))
	}
	var report []byte
	if err == nil && in.Body.Report != nil {
		report, err = json.Marshal(in.Body.Report)
	}
	if err == nil && len(report) > arrivals.MostReport {
		err = oci.Errorf(oci.CodeQueryInvalid, "the report has more than %d MiB", arrivals.MostReport>>20)
	}
	if err != nil {
		return nil, desk.Refusal(err)
	}
	if left, _, floor, space := d.Registry.Space(); report != nil && (space != nil || left < floor) {
		report, in.Body.Report = nil, nil
		in.Body.Says = "the report was not kept: the registry's disk is nearly full"
	}
	// Whoever may push there no longer keeps nothing there any longer.
	may := false
	if again := a; again.Renew(int64(d.Records.Clock().Served())) {
		if may, err = d.mayPushAll(ctx, c, a.ID); err != nil {
			return nil, desk.Refusal(err)
		}
	}
	err = d.Records.Update(ctx, "arrival", func(tx *record.Tx) error {
		if err := access.StillMay(tx, c); err != nil {
			return err
		}
		// As it is now, and not as it was read before.
		if a, err = tx.Arrivals().Get(in.ID); err != nil {
			return err
		}
		a.HeardAt, a.HeardServed = tx.Now(), tx.Served()
		if may {
			a.Renew(tx.Served())
		}
		a.ImagesDone, a.Lacks, a.Bytes, a.BytesDone, a.Rate = in.Body.ImagesDone, in.Body.Lacks, in.Body.Bytes, in.Body.BytesDone, in.Body.Rate
		a.State, a.Says = arrivals.State(in.Body.State), in.Body.Says
		if a.Report = nil; report != nil {
			a.Report = report
		}
		if a.State != arrivals.Going && a.State != arrivals.Waiting {
			a.EndedAt = tx.Now()
		}
		return tx.Arrivals().Change(a)
	})
	if errors.Is(err, arrivals.ErrNone) {
		err = oci.Errorf(oci.CodeNameUnknown, "it is over, and nothing is heard of it any more")
	}
	return desk.OK(d.arrivalOf(a), err)
}

// mayPushAll reports whether the caller may push to all repositories that an arrival holds
// open.
func (d *door) mayPushAll(ctx context.Context, c access.Caller, id int64) (bool, error) {
	names, err := d.Records.View(ctx).Arrivals().Places(id)
	for _, name := range names {
		v, err := d.Access.MayPush(ctx, c, name)
		if err != nil || !v.Allowed {
			return false, err
		}
	}
	return err == nil, err
}

func (d *door) stopArrival(ctx context.Context, in *ArrivalInput) (*desk.None, error) {
	c := callers.From(ctx)
	a, err := d.ofCaller(ctx, in.ID)
	if err == nil && a.AccountID != c.Account.ID {
		err = d.Access.Admin(c, "let go of what others carry in")
	}
	if err != nil {
		return nil, desk.Refusal(err)
	}
	e := c.Event(record.EventArrivalStopped)
	e.Subject = a.Name
	err = d.Access.Change(ctx, c, e, func(tx *record.Tx) error {
		a, err := tx.Arrivals().Get(in.ID)
		if err != nil {
			return err
		}
		a.State, a.EndedAt, a.Says = arrivals.Stopped, tx.Now(), "stopped by "+c.Account.Name
		return tx.Arrivals().Change(a)
	})
	if errors.Is(err, arrivals.ErrNone) {
		err = oci.Errorf(oci.CodeNameUnknown, "it is over already")
	}
	return desk.Done(err)
}
