// Package demo makes the sample world: the registry of a made-up company, with
// three months of history. What it holds depends on nothing outside, so that its
// digests are the same on every machine; only its times hang on the day.
package demo

import (
	"bytes"
	"context"
	"fmt"
	"sort"
	"time"

	"warthesis/internal/access"
	"warthesis/internal/access/upkeep"
	"warthesis/internal/clock"
	"warthesis/internal/oci"
	"warthesis/internal/record"
	"warthesis/internal/record/usage"
	"warthesis/internal/registry"
)

// act is something that happened in the sample world.
type act struct {
	at  time.Duration
	who string
	// name and action are what it takes a right for; without a name it takes none.
	name   oci.Name
	action access.Action
	do     func(context.Context, *registry.Registry) error
	// office is what somebody does besides, in do's place.
	office func(context.Context, *upkeep.Upkeep, access.Caller) error
	// refused tells that the right is missing, which stands in the log.
	refused bool
}

// history gathers what happened, in any order.
type history struct {
	acts   []act
	shared *layers
	// secrets are those of the tokens and logins by which accounts come.
	secrets map[string]string
	err     error
}

// Start returns when the history begins for a demo that starts at now.
func Start(now time.Time) time.Time { return now.Add(-days * 24 * time.Hour) }

// Seed fills an empty registry with the sample world. The registry must run by
// the clock, which Seed moves from the start of the history to its end. The account
// admin gets the password given; people have Password. sample is called on each second day,
// and notes how much there is then.
func Seed(ctx context.Context, r *registry.Registry, keep *upkeep.Upkeep, clk *clock.Set, sample func(context.Context) error, adminPassword string) error {
	rights := keep.Access
	h := &history{shared: &layers{map[string]layer{}}, secrets: map[string]string{}}
	if err := h.settle(ctx, rights, adminPassword); err != nil {
		return fmt.Errorf("make the accounts of the sample world: %w", err)
	}
	h.bases()
	for _, a := range applications {
		h.application(a)
	}
	h.interlock()
	h.mess()
	h.leftovers()
	h.office()
	h.names()
	h.worth()
	if h.err != nil {
		return fmt.Errorf("make the sample images: %w", h.err)
	}
	sort.SliceStable(h.acts, func(i, j int) bool { return h.acts[i].at < h.acts[j].at })
	began := clk.Now()
	sampled := time.Duration(0)
	for _, a := range h.acts {
		for ; sampled < a.at; sampled += sampledEvery {
			clk.MoveTo(began.Add(sampled))
			if err := sample(ctx); err != nil {
				return fmt.Errorf("note how much there is: %w", err)
			}
		}
		clk.MoveTo(began.Add(a.at))
		if err := h.happen(ctx, a, r, keep); err != nil {
			return fmt.Errorf("make the sample world: %w", err)
		}
		if a.refused {
			// It stands in the log before what comes after it.
			clk.MoveTo(clk.Now().Add(time.Minute))
			if err := rights.Flush(); err != nil {
				return err
			}
		}
	}
	clk.MoveTo(began.Add(days * 24 * time.Hour))
	return sample(ctx)
}

// sampledEvery is how often it is noted how much there is.
const sampledEvery = 48 * time.Hour

// happen lets somebody do something who has the right to it, by the token or the login
// that the account has by then.
func (h *history) happen(ctx context.Context, a act, r *registry.Registry, keep *upkeep.Upkeep) error {
	rights := keep.Access
	caller, err := rights.As(ctx, a.who)
	if secret, known := h.secrets[a.who]; known && err == nil {
		caller, err = rights.Session(ctx, secret, addresses[a.who])
	}
	if err != nil {
		return err
	}
	if a.name != "" {
		v, err := rights.Verdict(ctx, caller, a.name, a.action)
		if err != nil {
			return err
		}
		if a.refused == v.Allowed {
			return fmt.Errorf("%s in %s, to %s: allowed is %t; %s", a.who, a.name, a.action, v.Allowed, v.Reason)
		}
		if a.refused {
			e := caller.Event(record.EventRefused)
			e.Repository, e.Detail = a.name, v.Reason
			rights.Refused(e, a.action)
			return nil
		}
	}
	switch {
	case a.office != nil:
		return a.office(ctx, keep, caller)
	case a.do == nil:
		return nil
	}
	return a.do(registry.WithCaller(ctx, registry.Caller{
		Account: a.who, AccountID: caller.Account.ID, Token: caller.TokenName(), Address: caller.Address, Makes: record.Maker{Namespace: true},
	}), r)
}

// push lets somebody push an image under tags.
func (h *history) push(at time.Duration, who string, name oci.Name, made image, err error, tags ...oci.Tag) {
	if err != nil {
		h.err = err
		return
	}
	h.acts = append(h.acts, act{at: at, who: who, name: name, action: access.Push, do: func(ctx context.Context, r *registry.Registry) error {
		return pushImage(ctx, r, name, made, tags)
	}})
}

func pushImage(ctx context.Context, r *registry.Registry, name oci.Name, made image, tags []oci.Tag) error {
	for _, b := range made.blobs {
		if _, err := r.StatBlob(ctx, name, b.Digest); err == nil {
			continue
		}
		part := registry.Part{Body: bytes.NewReader(b.raw), Offset: -1, Length: b.Size}
		if err := r.PushBlob(ctx, name, part, b.Digest); err != nil {
			return err
		}
	}
	for n, d := range made.documents {
		push := registry.ManifestPush{Name: name, Digest: d.Digest, MediaType: d.MediaType, Raw: d.raw}
		if n == len(made.documents)-1 {
			push.Tags = tags
		}
		if _, err := r.PushManifest(ctx, push); err != nil {
			return err
		}
	}
	return nil
}

// pull lets somebody pull a tag.
func (h *history) pull(at time.Duration, who string, name oci.Name, tag oci.Tag) {
	h.acts = append(h.acts, act{at: at, who: who, name: name, action: access.Pull, do: func(ctx context.Context, r *registry.Registry) error {
		m, err := r.Manifest(ctx, name, string(tag))
		if err == nil {
			account := registry.CallerIn(ctx).AccountID
			r.CountPull(account, name, m, tag)
			r.CountTraffic(account, name, usage.Traffic{BytesOut: m.ContentSize - m.Size})
		}
		return err
	}})
}

func (h *history) bases() {
	for n, version := range baseVersions {
		at := day(float64(n)*30, 9)
		for i, runtime := range []string{"os", "go-runtime", "node-runtime"} {
			made, err := buildBase(h.shared, runtime, version)
			name := oci.Name("base/" + runtime)
			h.push(at+time.Duration(i)*time.Minute, "ines", name, made, err, oci.Tag(version), "latest")
			for d := 1 + i; d < 30; d += 4 {
				h.pull(at+day(float64(d), 2), "ci-timetable", name, "latest")
			}
		}
	}
}

// application lets the versions of an application come, be pulled for a while,
// and give way to the next.
func (h *history) application(a application) {
	n := len(a.versions)
	spacing := float64(days-4) / float64(n)
	for i, version := range a.versions {
		made, err := a.build(h.shared, version, baseAt(i, n))
		came := 2 + float64(i)*spacing
		tags := []oci.Tag{oci.Tag(version), "latest"}
		if i == n-1 || i == n-2 {
			tags = append(tags, "stable")
		}
		if a.commits {
			tags = append(tags, oci.Tag(fmt.Sprintf("c-%07x", random(string(a.name)+version).Uint32()>>4)))
		}
		h.push(day(came, 10+i%6), a.ci, a.name, made, err, tags...)
		for d := 1.0; d < spacing && came+d < days-0.5; d += 1.5 {
			h.pull(day(came+d, 3), a.cluster, a.name, oci.Tag(version))
		}
	}
	for i := range a.nights {
		version := fmt.Sprintf("night-%02d", i)
		made, err := a.build(h.shared, version, baseVersions[len(baseVersions)-1])
		h.push(day(float64(days-a.nights+i), 2), a.ci, a.name, made, err, "night")
	}
}

func (h *history) interlock() {
	for i, version := range []string{"2026.06", "2026.07", "2026.08"} {
		made, err := buildInterlock(version)
		h.push(day(5+float64(i)*30, 8), "jun", "signals/interlock-config", made, err, oci.Tag(version))
	}
}

// mess is what nobody meant: a tag on the wrong image for some hours, and an
// upload that somebody walked away from.
func (h *history) mess() {
	planner := applications[0]
	wrong, err := planner.build(h.shared, "night-18", baseVersions[len(baseVersions)-1])
	h.push(day(days-2, 16), "teodor", planner.name, wrong, err, "stable")
	right, err := planner.build(h.shared, "2.4.1", baseAt(6, 7))
	h.push(day(days-2, 19), "teodor", planner.name, right, err, "stable")
	h.acts = append(h.acts, act{at: day(days-6, 17), who: "marit", do: func(ctx context.Context, r *registry.Registry) error {
		upload, err := r.StartUpload(ctx, "rolling/brakes-model", oci.SHA256)
		if err != nil {
			return err
		}
		half := machineCode(random("abandoned"), 400<<10)
		_, err = r.AppendUpload(ctx, "rolling/brakes-model", upload.ID, registry.Part{Body: bytes.NewReader(half), Offset: 0, Length: int64(len(half))})
		return err
	}})
}
