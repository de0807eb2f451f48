package flow

import (
	"context"
	"encoding/json"
	"time"

	"warthesis/internal/access"
	"warthesis/internal/api"
	"warthesis/internal/flow/replicate"
	"warthesis/internal/httpd/callers"
	"warthesis/internal/httpd/management/desk"
	"warthesis/internal/record"
	"warthesis/internal/record/replication"
	"warthesis/internal/record/runs"
	"warthesis/internal/work"
)

// states are those of what is due, in words.
var states = map[replication.State]string{replication.Open: "due", replication.Waits: "waits", replication.Conflicts: "conflict", replication.Asks: "asks"}

// seen returns a rule that the caller may see.
func (d *door) seen(ctx context.Context, name string) (replication.Rule, error) {
	if err := d.maySee(callers.From(ctx)); err != nil {
		return replication.Rule{}, desk.Refusal(err)
	}
	row, err := d.Records.View(ctx).Replication().Get(name)
	if err != nil {
		return row, replicationRefusal(err)
	}
	return row, nil
}

func (d *door) due(ctx context.Context, in *struct {
	ReplicationInput
	State string `query:"state" enum:"due,waits,conflict,asks,failing," doc:"Keep those in this state; absent for all"`
	After int64  `query:"after" minimum:"0" doc:"The next of the page before"`
	Limit int    `query:"limit" minimum:"1" maximum:"1000" default:"100"`
}) (*desk.Reply[api.DueList], error) {
	row, err := d.seen(ctx, in.Name)
	if err != nil {
		return nil, err
	}
	f := replication.Filter{RuleID: row.ID, After: in.After, Limit: in.Limit + 1, Failed: in.State == "failing"}
	for state, word := range states {
		if word == in.State {
			f.States = []replication.State{state}
		}
	}
	rows, err := d.Records.View(ctx).Replication().List(f)
	list := api.DueList{Items: []api.DueItem{}}
	if len(rows) > in.Limit {
		rows = rows[:in.Limit]
		list.Next = rows[in.Limit-1].ID
	}
	served := d.Records.Clock().Served()
	for _, one := range rows {
		again := time.Duration(one.NotBefore) - served
		list.Items = append(list.Items, api.DueItem{
			ID: one.ID, Repository: one.Repository, Tag: one.Tag, Digest: one.Digest, State: states[one.State], Since: desk.Moment(one.MarkedAt), Tries: one.Tries, Error: one.Error,
			AgainIn: seconds(again, again > 0), Here: one.Here, There: one.There,
		})
	}
	return desk.OK(list, err)
}

func (d *door) askDrift(ctx context.Context, in *struct {
	ReplicationInput
	Body api.AskDrift
}) (*desk.Reply[api.DriftReport], error) {
	o := replicate.DriftOptions{Right: in.Body.Right}
	says := map[bool]string{false: "compares both sides", true: "compares both sides, and puts right what differs"}[o.Right]
	err := d.changed(ctx, record.EventReplicationRun, in.Name, says, func(tx *record.Tx, _ access.Caller) error {
		row, err := tx.Replication().Get(in.Name)
		o.Rule = row.ID
		return err
	})
	if err != nil {
		return nil, err
	}
	wish := work.Wish{Kind: replicate.DriftKind, Place: in.Name, Options: o.String(), Cause: runs.BySomebody, Account: callers.From(ctx).Account.ID}
	row, _, err := d.Work.Ask(ctx, wish)
	if err != nil {
		return nil, desk.Refusal(err)
	}
	return desk.OK(driftOf(row), nil)
}

func driftOf(row runs.Run) api.DriftReport {
	shown := api.DriftReport{Run: row.ID, State: string(row.State), Compared: row.Done, Says: row.Report, Error: row.Error, EndedAt: desk.Moment(row.EndedAt), Items: []api.DriftItem{}}
	var f replicate.DriftFacts
	if row.Facts != "" && json.Unmarshal([]byte(row.Facts), &f) == nil {
		shown.Compared, shown.Missing, shown.Different, shown.Extra = f.Compared, f.Missing, f.Different, f.Extra
	}
	return shown
}

func (d *door) drift(ctx context.Context, in *struct {
	ReplicationInput
	After int64 `query:"after" minimum:"0" doc:"The next of the page before"`
	Limit int   `query:"limit" minimum:"1" maximum:"1000" default:"100"`
}) (*desk.Reply[api.DriftReport], error) {
	row, err := d.seen(ctx, in.Name)
	if err != nil {
		return nil, err
	}
	last, err := d.Records.View(ctx).Runs().List(runs.Filter{Kind: replicate.DriftKind, Place: in.Name, Limit: 1})
	shown := api.DriftReport{Items: []api.DriftItem{}}
	if err != nil || len(last) == 0 {
		return desk.OK(shown, err)
	}
	if now, open := d.Work.Run(last[0].ID); open {
		last[0] = now
	}
	shown = driftOf(last[0])
	found, err := d.Records.View(ctx).Replication().Drifts(row.ID, in.After, in.Limit+1)
	if len(found) > in.Limit {
		found = found[:in.Limit]
		shown.Next = found[in.Limit-1].ID
	}
	for _, f := range found {
		shown.Items = append(shown.Items, api.DriftItem{Repository: f.Repository, Tag: f.Tag, Target: f.Target, Kind: string(f.Kind), Here: f.Here, There: f.There})
	}
	return desk.OK(shown, err)
}

// mostSamples is how many samples are told at once: a week of them.
const mostSamples = 7 * 24 * 60

func (d *door) samples(ctx context.Context, in *struct {
	ReplicationInput
	Hours int `query:"hours" minimum:"1" maximum:"168" default:"24" doc:"How far back"`
}) (*desk.Reply[api.FlowSamples], error) {
	row, err := d.seen(ctx, in.Name)
	if err != nil {
		return nil, err
	}
	since := record.StampOf(d.Records.Clock().Now().Add(-time.Duration(in.Hours) * time.Hour))
	rows, err := d.Records.View(ctx).Replication().Samples(row.ID, since, mostSamples)
	shown := api.FlowSamples{Samples: make([]api.FlowSample, len(rows))}
	for i, s := range rows {
		shown.Samples[i] = api.FlowSample{At: s.At.Time(), Lag: s.Lag / int64(time.Second), Due: s.Due, Bytes: s.Bytes, Images: s.Images}
	}
	return desk.OK(shown, err)
}
