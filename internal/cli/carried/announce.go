package carried

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"strings"
	"sync"
	"time"

	"warthesis/internal/api"
	"warthesis/internal/cli/site"
	"warthesis/internal/cli/term"
	"warthesis/internal/flow/carry"
	"warthesis/internal/oci"
)

// announced is what is carried in, told to a destination that is one of ours: whether there is
// room for it, how far it is, and that sweeps leave what came until the rest is there. Any
// other destination is told nothing.
type announced struct {
	client *api.Client
	watch  *copyWatch
	kind   string
	name   string
	source string

	id    int64
	ended chan struct{}
	wait  sync.WaitGroup
	// lacks is how many images cannot be had, total all that is to come.
	lacks, total int64
}

// waitsDays is for how many days a destination waits for what is carried in by volumes, or
// goes on another day.
const waitsDays = 14

func newAnnounced(ctx context.Context, c *site.Call, to site.Place, watch *copyWatch, kind, name, source string) *announced {
	const longest = 500
	cut := func(s string) string {
		if len(s) > longest {
			s = s[len(s)-longest:]
		}
		return strings.ToValidUTF8(s, "")
	}
	if to.Name != "" {
		name += " to " + string(to.Name)
	}
	a := &announced{watch: watch, kind: kind, name: cut(name), source: cut(source)}
	client, err := c.R.API(ctx, to.Registry)
	if err != nil {
		return a
	}
	found, err := c.R.Credentials(ctx, to.Registry)
	if err == nil && (found.Secret != "" || found.Identity) {
		a.client = client
	}
	return a
}

// places are the repositories that a plan brings something to, with how much.
func places(plan *carry.Plan) (all []api.ArrivalPlace) {
	at := map[string]int{}
	for _, i := range plan.Images {
		if i.Lacks() || i.State == carry.There {
			continue
		}
		n, known := at[string(i.Name)]
		if !known {
			n = len(all)
			at[string(i.Name)] = n
			all = append(all, api.ArrivalPlace{Repository: i.Name})
		}
		all[n].Bytes += i.New
	}
	return all
}

// ask asks whether there is room for what a plan brings; it says for what there is none.
func (a *announced) ask(ctx context.Context, plan *carry.Plan) []string {
	all := places(plan)
	if a.client == nil || len(all) == 0 {
		return nil
	}
	var answer api.ArrivalAnswer
	body := api.MakeArrival{Kind: a.kind, Name: a.name, Source: a.source, Images: int64(len(plan.Images)), Places: all, Days: waitsDays, Ask: true}
	if err := a.client.Do(ctx, http.MethodPost, "/api/v1/arrivals", nil, body, &answer); err != nil {
		// Another make, or no right to push: the push itself says so.
		a.client = nil
		return nil
	}
	return answer.Lacks
}

// begin announces what a plan brings, or goes on with what was announced before, and tells how
// far it is from then on.
func (a *announced) begin(ctx context.Context, plan *carry.Plan) {
	all := places(plan)
	if a.client == nil || len(all) == 0 {
		return
	}
	var list api.ArrivalList
	if err := a.client.Do(ctx, http.MethodGet, "/api/v1/arrivals", nil, nil, &list); err == nil {
		for _, open := range list.Arrivals {
			if open.EndedAt == nil && open.Kind == a.kind && open.Name == a.name && open.Source == a.source {
				a.id = open.ID
				break
			}
		}
	}
	a.lacks, a.total = int64(plan.Count(carry.Missing, carry.Failed)), plan.New
	if a.id == 0 {
		var answer api.ArrivalAnswer
		body := api.MakeArrival{Kind: a.kind, Name: a.name, Source: a.source, Images: int64(len(plan.Images)), Places: all, Days: waitsDays}
		if err := a.client.Do(ctx, http.MethodPost, "/api/v1/arrivals", nil, body, &answer); err != nil || answer.Arrival == nil {
			if err != nil {
				a.watch.c.T.Warn("the registry does not wait for the rest of it, should this stop, and a sweep may take what came: %s", term.OneLine(err.Error()))
			}
			return
		}
		a.id = answer.Arrival.ID
	}
	a.ended = make(chan struct{})
	there := int64(plan.Count(carry.There))
	a.wait.Go(func() {
		const every = 3 * time.Second
		tick := time.NewTicker(every)
		defer tick.Stop()
		for {
			done, moved, rate := a.watch.stands()
			// That it cannot be told is no reason to stop.
			_ = a.tell(ctx, api.TellArrival{State: "going", ImagesDone: there + done, Lacks: a.lacks, Bytes: a.total, BytesDone: min(moved, a.total), Rate: rate})
			select {
			case <-tick.C:
			case <-a.ended:
				return
			case <-ctx.Done():
				return
			}
		}
	})
}

func (a *announced) tell(ctx context.Context, body api.TellArrival) error {
	return a.client.Do(ctx, http.MethodPatch, fmt.Sprintf("/api/v1/arrivals/%d", a.id), nil, body, &api.Arrival{})
}

// mostReport is the largest report that is told.
const mostReport = 1 << 20

// end tells how it ended: all is there, something lacks, or more is to come.
func (a *announced) end(ctx context.Context, report carry.Report, plan *carry.Plan, stopped error) {
	if a.id == 0 {
		return
	}
	close(a.ended)
	a.wait.Wait()
	body := api.TellArrival{State: "done", Lacks: int64(report.Totals.Lacks), Bytes: a.total, BytesDone: min(report.Totals.Sent, a.total), Rate: report.Totals.BytesASecond}
	body.ImagesDone = int64(report.Totals.There + report.Totals.Copied)
	switch {
	case stopped != nil:
		body.State, body.Says = "waiting", "it stopped, and goes on when it is run again: "+term.OneLine(stopped.Error())
	case plan.Count(carry.Waiting) > 0:
		body.State, body.Says = "waiting", fmt.Sprintf("%s for further volumes", term.Count(plan.Count(carry.Waiting), "image waits", "images wait"))
	case report.Totals.Lacks > 0:
		body.State, body.Says = "failed", lacking(report.Totals.Lacks)
	default:
		body.BytesDone, body.Says = a.total, "all of it was asked for again, and is there by digest"
	}
	if len(body.Says) > 1000 {
		body.Says = oci.Cut(body.Says, 1000)
	}
	if raw, err := json.Marshal(report); err == nil && len(raw) <= mostReport {
		// Both are written alike.
		body.Report = &api.CopyReport{}
		if json.Unmarshal(raw, body.Report) != nil {
			body.Report = nil
		}
	}
	// Also where the run was interrupted, and soon.
	last, cancel := context.WithTimeout(context.WithoutCancel(ctx), 10*time.Second)
	defer cancel()
	_ = a.tell(last, body)
}
