package cli

import (
	"context"
	"os"
	"sync"

	"warthesis/internal/api"
	"warthesis/internal/login"
	"warthesis/internal/oci"
	"warthesis/internal/peer"
)

// remote is how commands reach a registry.
type remote struct {
	t           terminal
	unencrypted bool
	authority   string
	loginFile   string
	version     string

	warned sync.Once
}

// place returns where the login file is.
func (r *remote) place() string {
	if r.loginFile != "" {
		return r.loginFile
	}
	return login.Place(os.Getenv)
}

// credentials returns what a registry is given where it asks for a login.
func (r *remote) credentials(ctx context.Context, registry string) (login.Credentials, error) {
	file, err := login.Open(r.place())
	if err != nil {
		return login.Credentials{}, err
	}
	return file.Find(ctx, registry)
}

func (r *remote) peer(registry string) (*peer.Client, error) {
	return r.peerAs(registry, func(ctx context.Context) (login.Credentials, error) { return r.credentials(ctx, registry) })
}

func (r *remote) peerAs(registry string, credentials func(context.Context) (login.Credentials, error)) (*peer.Client, error) {
	w, err := r.way(registry)
	if err != nil {
		return nil, err
	}
	hosts, err := login.OpenHosts(os.Getenv)
	if err != nil {
		return nil, err
	}
	return peer.New(registry, peer.Options{
		Unencrypted: r.unencrypted, UserAgent: "warthesis/" + r.version, Transport: w, Base: w.base.String(),
		Credentials: credentials, Sessions: hosts.Uploads(),
	}), nil
}

func (r *remote) api(ctx context.Context, registry string) (*api.Client, error) {
	found, err := r.credentials(ctx, registry)
	if err != nil {
		return nil, err
	}
	return r.apiAs(registry, found)
}

func (r *remote) apiAs(registry string, found login.Credentials) (*api.Client, error) {
	w, err := r.way(registry)
	if err != nil {
		return nil, err
	}
	return &api.Client{
		Base: w.base.String(), HTTP: w.client(0), Account: found.Account, Secret: found.Secret, Identity: found.Identity, NotLoggedIn: notLoggedIn(registry),
	}, nil
}

func notLoggedIn(registry string) error {
	return oci.Errorf(oci.CodeUnauthorized, "not logged in to %s; log in with: warthesis login %s", registry, registry)
}

// defaultRegistry returns the registry that is meant where none is named, "" for none.
func defaultRegistry() string {
	hosts, err := login.OpenHosts(os.Getenv)
	if err != nil {
		return ""
	}
	return hosts.Default
}

// registryOr reads an argument that names a registry, or takes the default one.
func registryOr(args []string) (string, error) {
	if len(args) > 0 {
		registry, err := oci.ParseRegistry(args[0])
		if err != nil {
			return "", usageError{err}
		}
		return registry, nil
	}
	if registry := defaultRegistry(); registry != "" {
		return registry, nil
	}
	return "", usage("no registry is named, and there is no default one; name one, or make one the default with: %s login --default REGISTRY", programName())
}

// reference reads an argument that names something in a registry: in the default
// one where the argument names none.
func reference(s string) (oci.Reference, error) {
	ref, err := oci.ParseReference(s)
	if err == nil {
		return ref, nil
	}
	if registry := defaultRegistry(); registry != "" {
		if within, again := oci.ParseReference(registry + "/" + s); again == nil {
			return within, nil
		}
	}
	return ref, usageError{err}
}

// target reads an argument that must name a tag or a digest.
func target(s string) (oci.Reference, error) {
	ref, err := reference(s)
	if err == nil && ref.Target() == "" {
		return ref, usage("%s names no tag and no digest; say which one, as in %s:1.0.0", s, s)
	}
	return ref, err
}
