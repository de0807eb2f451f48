package site

import (
	"context"
	"os"
	"sync"

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
	LoginFile   string
	Version     string

	warned sync.Once
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
		Credentials: credentials, Sessions: hosts.Uploads(),
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

// DefaultRegistry returns the registry that is meant where none is named, "" for none.
func DefaultRegistry() string {
	hosts, err := login.OpenHosts(os.Getenv)
	if err != nil {
		return ""
	}
	return hosts.Default
}

// RegistryOr reads an argument that names a registry, or takes the default one.
func RegistryOr(args []string) (string, error) {
	if len(args) > 0 {
		registry, err := oci.ParseRegistry(args[0])
		if err != nil {
			return "", term.Usage("%w", err)
		}
		return registry, nil
	}
	if registry := DefaultRegistry(); registry != "" {
		return registry, nil
	}
	return "", term.Usage("no registry is named, and there is no default one; name one, or make one the default with: %s login --default REGISTRY", term.ProgramName())
}

// Reference reads an argument that names something in a registry: in the default
// one where the argument names none.
func Reference(s string) (oci.Reference, error) {
	ref, err := oci.ParseReference(s)
	if err == nil {
		return ref, nil
	}
	if registry := DefaultRegistry(); registry != "" {
		if within, again := oci.ParseReference(registry + "/" + s); again == nil {
			return within, nil
		}
	}
	return ref, term.Usage("%w", err)
}

// Target reads an argument that must name a tag or a digest.
func Target(s string) (oci.Reference, error) {
	ref, err := Reference(s)
	if err == nil && ref.Target() == "" {
		return ref, term.Usage("%s names no tag and no digest; say which one, as in %s:1.0.0", s, s)
	}
	return ref, err
}
