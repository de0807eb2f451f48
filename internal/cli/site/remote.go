package site

import (
	"context"
	"os"
	"sync"
	"time"

	"warthesis/internal/api"
	"warthesis/internal/cli/term"
	"warthesis/internal/login"
	"warthesis/internal/oci"
	"warthesis/internal/peer"
)

// Remote is how commands reach a registry.
type Remote struct {
	T           term.Terminal
	Unencrypted bool
	Authority   string
	// ClientCertificate and ClientKey are files that are shown to a registry that asks.
	ClientCertificate, ClientKey string
	LoginFile                    string
	Version                      string
	// Patience is how long what fails for a passing reason is tried again; zero is a minute.
	Patience time.Duration

	warned sync.Once
	// schemes are those that addresses were pasted with, by registry.
	schemes map[string]string
}

// Place returns where the login file is.
func (r *Remote) Place() string {
	if r.LoginFile != "" {
		return r.LoginFile
	}
	return login.Place(os.Getenv)
}

// Credentials returns what a registry is given where it asks for a login.
func (r *Remote) Credentials(ctx context.Context, registry string) (login.Credentials, error) {
	file, err := login.Open(r.Place())
	if err != nil {
		return login.Credentials{}, err
	}
	return file.Find(ctx, registry)
}

// Peer returns a client of the distribution protocol of a registry, with the login kept
// for it.
func (r *Remote) Peer(registry string) (*peer.Client, error) {
	return r.PeerAs(registry, func(ctx context.Context) (login.Credentials, error) { return r.Credentials(ctx, registry) })
}

// PeerAs is Peer with a login that is asked for when it is needed.
func (r *Remote) PeerAs(registry string, credentials func(context.Context) (login.Credentials, error)) (*peer.Client, error) {
	w, err := r.Way(registry)
	if err != nil {
		return nil, err
	}
	hosts, err := login.OpenHosts(os.Getenv)
	if err != nil {
		return nil, err
	}
	return peer.New(registry, peer.Options{
		Unencrypted: r.Unencrypted, UserAgent: "warthesis/" + r.Version, Transport: w, Base: w.Base.String(),
		Credentials: credentials, Sessions: hosts.Uploads(), Patience: r.Patience,
	}), nil
}

// API returns a client of the management API of a registry, with the login kept for it.
func (r *Remote) API(ctx context.Context, registry string) (*api.Client, error) {
	found, err := r.Credentials(ctx, registry)
	if err != nil {
		return nil, err
	}
	return r.APIAs(registry, found)
}

// APIAs is API with a login that was found.
func (r *Remote) APIAs(registry string, found login.Credentials) (*api.Client, error) {
	w, err := r.Way(registry)
	if err != nil {
		return nil, err
	}
	return &api.Client{
		Base: w.Base.String(), HTTP: w.Client(0), Account: found.Account, Secret: found.Secret, Identity: found.Identity, NotLoggedIn: NotLoggedIn(registry),
	}, nil
}

// NotLoggedIn returns an error that says how to log in.
func NotLoggedIn(registry string) error {
	return oci.Errorf(oci.CodeUnauthorized, "not logged in to %s; log in with: warthesis login %s", registry, registry)
}
