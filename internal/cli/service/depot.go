package service

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"strconv"

	"warthesis/internal/api"
	"warthesis/internal/config"
	"warthesis/internal/demo"
	"warthesis/internal/oci"
	"warthesis/internal/serve"
)

// depotOf returns the settings of the depot's registry beside those of headquarters: its
// data beside theirs, on the next port.
func depotOf(settings config.Config) (config.Config, error) {
	host, port, err := net.SplitHostPort(settings.Listen)
	if err != nil {
		return settings, err
	}
	number, err := strconv.Atoi(port)
	if err != nil {
		return settings, fmt.Errorf("the port of %s: %w", settings.Listen, err)
	}
	if number != 0 {
		number++
	}
	settings.Data, settings.Listen = settings.Data+"-depot", net.JoinHostPort(host, strconv.Itoa(number))
	return settings, nil
}

// both is the two registries of the sample world, as an admin asks them.
type both struct{ here, depot *api.Client }

func newBoth(here, depot string) both {
	client := func(address string) *api.Client {
		return &api.Client{Base: "http://" + address, HTTP: http.DefaultClient, Account: "ines", Secret: demo.Password}
	}
	return both{client(here), client(depot)}
}

// token makes a token by which one registry comes to the other.
func token(ctx context.Context, at *api.Client, account, name string, actions ...string) (string, error) {
	var made api.MadeToken
	err := at.Do(ctx, http.MethodPost, "/api/v1/tokens", nil, api.NewToken{Account: account, Name: name, Scopes: []api.Scope{{Pattern: "*", Actions: actions}}}, &made)
	return made.Secret, err
}

// connect makes each registry a peer of the other, lets headquarters copy to the depot, and
// the depot follow headquarters for its base images. What is connected already stays.
func (b both) connect(ctx context.Context, here, depot string) error {
	fresh, err := join(ctx, b.here, "tarn", depot, "The depot, behind a slow line", demo.Headquarters, func() (string, error) {
		return token(ctx, b.depot, demo.Headquarters, "copies from headquarters", "pull", "push", "delete")
	})
	if err != nil {
		return err
	}
	_, err = join(ctx, b.depot, "headquarters", here, "Where all is built", "depot-tarn", func() (string, error) {
		return token(ctx, b.here, "depot-tarn", "follows headquarters", "pull")
	})
	if err != nil || !fresh {
		return err
	}
	follow := api.SetFollow{Sources: []api.FollowSource{{Peer: "headquarters", Prefix: "base"}}, FreshFor: "1h"}
	home := api.MakeImport{Name: "depot-builds", Peer: "tarn", What: []api.ImportWhat{{From: "rolling/telemetry", To: "outside/depot-telemetry"}}, When: "24h"}
	return errors.Join(
		b.here.Do(ctx, http.MethodPost, "/api/v1/imports", nil, home, nil),
		b.depot.Do(ctx, http.MethodPut, "/api/v1/follow?namespace=base", nil, follow, nil),
		b.here.Do(ctx, http.MethodPost, "/api/v1/replications", nil, api.ReplicationRule{
			Name: "signal-boxes", Copy: []string{"signals/*"}, To: "tarn", Rate: "256KiB", Removals: "remove", Because: "signal boxes are served from the depot",
		}, nil),
		b.here.Do(ctx, http.MethodPost, "/api/v1/replications", nil, api.ReplicationRule{
			Name: "trains", Copy: []string{"rolling/*:<release>", "rolling/*:stable"}, To: "tarn", Rate: "128KiB", Because: "trains are loaded at the depot",
		}, nil),
	)
}

// join makes a registry a peer of another, and reports whether it was none. One that was
// started at another address is found there.
func join(ctx context.Context, at *api.Client, name, address, about, account string, secret func() (string, error)) (fresh bool, err error) {
	var is api.Peer
	err = at.Do(ctx, http.MethodGet, "/api/v1/peers/"+name, nil, nil, &is)
	fresh = errors.Is(err, oci.CodeNameUnknown)
	if err != nil && !fresh || err == nil && is.Address == address {
		return false, err
	}
	given, plain := "", true
	if given, err = secret(); err != nil {
		return fresh, err
	}
	peer := api.GivenPeer{Address: &address, Description: &about, Account: &account, Secret: &given, Unencrypted: &plain}
	if !fresh {
		return false, at.Do(ctx, http.MethodPatch, "/api/v1/peers/"+name, nil, api.ChangePeer{GivenPeer: peer, Failing: true}, nil)
	}
	return true, at.Do(ctx, http.MethodPost, "/api/v1/peers", nil, api.MakePeer{Name: name, GivenPeer: peer, Failing: true}, nil)
}

// serveBoth serves both registries of the sample world until ctx is done, or one fails.
func serveBoth(ctx context.Context, here, depot config.Config, version string, welcome func(here, depot string) error) error {
	ctx, end := context.WithCancelCause(ctx)
	defer end(nil)
	addresses := [2]chan string{make(chan string, 1), make(chan string, 1)}
	ended := make(chan error, 2)
	for i, settings := range []config.Config{here, depot} {
		go func() {
			err := serve.Run(ctx, settings, version, func(s serve.Started) error {
				addresses[i] <- s.Address
				return nil
			})
			end(err)
			ended <- err
		}()
	}
	said := func() error {
		var at [2]string
		for i := range at {
			select {
			case at[i] = <-addresses[i]:
			case <-ctx.Done():
				return nil
			}
		}
		if err := newBoth(at[0], at[1]).connect(ctx, at[0], at[1]); err != nil && ctx.Err() == nil {
			return fmt.Errorf("connect both registries of the sample world: %w", err)
		}
		if err := packForBox(ctx, here.Data+"-parcels", at[0]); err != nil && ctx.Err() == nil {
			return fmt.Errorf("pack the parcels of the sample world: %w", err)
		}
		return welcome(at[0], at[1])
	}
	wrong := said()
	if wrong != nil {
		end(wrong)
	}
	return errors.Join(wrong, <-ended, <-ended)
}
