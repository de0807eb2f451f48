package cli

import (
	"net/http"

	"warthesis/internal/api"
	"warthesis/internal/oci"
	"warthesis/internal/peer"
)

// remote is how commands reach a registry.
type remote struct {
	unencrypted bool
	version     string
}

func (r *remote) peer(registry string) *peer.Client {
	return peer.New(registry, peer.Options{Unencrypted: r.unencrypted, UserAgent: "warthesis/" + r.version})
}

func (r *remote) api(registry string) *api.Client {
	return &api.Client{
		Base: peer.Base(registry, r.unencrypted).String(),
		HTTP: &http.Client{Transport: peer.NewTransport()},
	}
}

// reference reads an argument that names something in a registry.
func reference(s string) (oci.Reference, error) {
	ref, err := oci.ParseReference(s)
	if err != nil {
		return ref, usageError{err}
	}
	return ref, nil
}

// target reads an argument that must name a tag or a digest.
func target(s string) (oci.Reference, error) {
	ref, err := reference(s)
	if err == nil && ref.Target() == "" {
		return ref, usage("%s names no tag and no digest; say which one, as in %s:1.0.0", s, s)
	}
	return ref, err
}
