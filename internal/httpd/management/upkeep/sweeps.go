package upkeep

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"

	"warthesis/internal/api"
	"warthesis/internal/httpd/callers"
	"warthesis/internal/httpd/management/desk"
	"warthesis/internal/oci"
	"warthesis/internal/record"
	"warthesis/internal/record/runs"
	"warthesis/internal/record/unheld"
	"warthesis/internal/sweep"
	"warthesis/internal/work"
)

func (d *door) askSweep(ctx context.Context, in *struct{ Body api.AskSweep }) (*desk.Reply[api.Asked], error) {
	what, kind := "a sweep", sweep.KindSweep
	if in.Body.Preview {
		what, kind = "a preview of a sweep", sweep.KindPreview
	}
	o := sweep.Options{Unrecorded: in.Body.Unrecorded}
	if o.Unrecorded {
		what += ", with all files that no record names"
	}
	if o.Unrecorded && in.Body.Place != "" {
		return nil, desk.Refusal(oci.Errorf(oci.CodeQueryInvalid, "files that no record names belong to no place: leave the place out"))
	}
	return d.ask(ctx, record.EventSweepAsked, work.Wish{Kind: kind, Place: in.Body.Place, Options: o.Words()}, what)
}

func (d *door) askScrub(ctx context.Context, in *struct{ Body api.AskScrub }) (*desk.Reply[api.Asked], error) {
	o, what := sweep.Options{All: true}, "a scrub"
	if in.Body.Reference == "" {
		return d.ask(ctx, record.EventScrubAsked, work.Wish{Kind: sweep.KindScrub, Place: in.Body.Place, Options: o.Words()}, what)
	}
	name, err := oci.ParseName(in.Body.Place)
	if err == nil {
		err = d.Upkeep.MayRunIn(ctx, callers.From(ctx), name)
	}
	if err != nil {
		return nil, desk.Refusal(err)
	}
	m, err := d.Registry.Manifest(ctx, name, in.Body.Reference)
	if err != nil {
		return nil, desk.Refusal(err)
	}
	o = sweep.Options{Digest: m.Digest.String()}
	return d.ask(ctx, record.EventScrubAsked, work.Wish{Kind: sweep.KindScrub, Place: in.Body.Place, Options: o.Words()}, what+" of "+in.Body.Reference)
}

// ask lets a run begin that somebody asks for.
func (d *door) ask(ctx context.Context, event record.EventKind, wish work.Wish, what string) (*desk.Reply[api.Asked], error) {
	var place oci.Name
	if wish.Place != "" {
		var err error
		if place, err = oci.ParseName(wish.Place); err != nil {
			return nil, desk.Refusal(err)
		}
	}
	c := callers.From(ctx)
	key, err := d.Upkeep.AskRun(ctx, c, event, place, what)
	if err != nil {
		return nil, desk.Refusal(err)
	}
	wish.NamespaceID, wish.RepositoryID = key.NamespaceID, key.RepositoryID
	wish.Cause, wish.Account = runs.BySomebody, c.Account.ID
	row, joined, err := d.Work.Ask(ctx, wish)
	return desk.OK(api.Asked{Run: d.runOf(row), Joined: joined}, err)
}

// factsOf adds the figures of a run to it.
func (d *door) factsOf(row runs.Run, run *api.Run) {
	if row.Facts == "" {
		return
	}
	// Words of another version that cannot be read are left out.
	switch row.Kind {
	case sweep.KindSweep, sweep.KindPreview:
		report := &api.SweepReport{}
		if json.Unmarshal([]byte(row.Facts), report) == nil {
			for _, sums := range []*[]api.Sum{&report.Goes, &report.Stays, &report.Taken, &report.Since} {
				if *sums == nil {
					*sums = []api.Sum{}
				}
				for i := range *sums {
					(*sums)[i].Says = sayWhy(unheld.Why((*sums)[i].Why))
				}
			}
			run.Sweep = report
		}
	case sweep.KindRetention:
		report := &api.RetentionReport{}
		if json.Unmarshal([]byte(row.Facts), report) == nil {
			report.Rules, report.Waits = append([]api.RetentionSum{}, report.Rules...), append([]api.RetentionWaits{}, report.Waits...)
			report.Busy, report.Stale = append([]oci.Name{}, report.Busy...), desk.List(report.Stale)
			run.Retention = report
		}
	case sweep.KindScrub:
		report := &api.ScrubReport{}
		if json.Unmarshal([]byte(row.Facts), report) == nil {
			if report.Digests == nil {
				report.Digests = []oci.Digest{}
			}
			run.Scrub = report
		}
	}
}

// whys say why something goes or stays.
var whys = map[unheld.Why]string{
	unheld.WindowOver:   "it was removed, and its restore window is over",
	unheld.Unnamed:      "no manifest of the repository names it",
	unheld.Unneeded:     "no repository holds it",
	unheld.OfNothing:    "it points to nothing that can be pulled",
	unheld.Unrecorded:   "no record names the file",
	unheld.LeftBehind:   "the upload that it was of is over",
	unheld.InWindow:     "its restore window is not over",
	unheld.InGrace:      "it was touched within the grace",
	unheld.Uploading:    "it came while an upload, or something that is carried in, was under way that is open still",
	unheld.PlaceRemoved: "its place is removed, and can come back",
	unheld.StillNamed:   "something that stays names it",
	unheld.AfterCrash:   "the service did not stop in order, and what it had said to be there is not known; it stays for a grace",
	unheld.Since:        "it was touched, named or brought back since",
	unheld.RecordsOlder: "the records are older than the files; an admin must decide about it",
	unheld.TooMany:      "there are so many that an admin must say that they may go",
}

func sayWhy(why unheld.Why) string {
	if said := whys[why]; said != "" {
		return said
	}
	return string(why)
}

type itemsInput struct {
	ID    int64  `path:"id" minimum:"1"`
	Kind  string `query:"kind" enum:"manifest,tag,holding,repository,namespace,blob,stray,leftover" doc:"Only this kind"`
	After int64  `query:"after" minimum:"0" doc:"The next of the page before"`
	Limit int    `query:"limit" minimum:"1" maximum:"1000" default:"100"`
}

// items lists what a sweep took, or would.
func (d *door) items(ctx context.Context, in *itemsInput) (*desk.Reply[api.SweepItems], error) {
	row, err := d.seenRun(ctx, in.ID)
	if err != nil {
		return nil, desk.Refusal(err)
	}
	end, err := d.Upkeep.Look(callers.From(ctx))
	if err != nil {
		return nil, desk.Refusal(err)
	}
	defer end()
	found, next, err := d.Sweeper.Reports().List(row.ID, in.After, in.Limit, unheld.Kind(in.Kind))
	if errors.Is(err, sweep.ErrNoList) {
		if row.Kind != sweep.KindSweep && row.Kind != sweep.KindPreview {
			err = oci.Errorf(oci.CodeNameUnknown, "the run %d is no sweep, and has no list of things", row.ID)
		} else {
			err = oci.Errorf(oci.CodeNameUnknown, "the run %d has no list of things: it ended before its plan was made, or has not made it yet", row.ID)
		}
	}
	list := api.SweepItems{Items: make([]api.SweepItem, len(found)), Next: next}
	for i, f := range found {
		list.Items[i] = api.SweepItem{
			Kind: string(f.Kind), Repository: f.Repository, Name: f.Name, Digest: f.Digest, Size: f.Size, Why: string(f.Why), Says: d.sayFound(f), Removal: f.RemovalID, Went: f.Went,
		}
	}
	return desk.OK(list, err)
}

func (d *door) sayFound(f sweep.Item) string {
	said := sayWhy(f.Why)
	if f.RemovalID != 0 {
		said = strings.Replace(said, "it was removed", fmt.Sprintf("it was removed by the removal %d", f.RemovalID), 1)
	}
	if f.Went != nil && !*f.Went {
		said += "; but " + whys[unheld.Since]
	}
	return said
}
