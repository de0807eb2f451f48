package site

import (
	"net"
	"os"
	"slices"
	"strings"

	"warthesis/internal/cli/term"
	"warthesis/internal/login"
	"warthesis/internal/oci"
	"warthesis/internal/peer/walk"
)

// DefaultRegistry returns the registry that is meant where none is named: the one that
// was made the default, or the only one with a login; "" for none.
func (r *Remote) DefaultRegistry() string {
	if hosts, err := login.OpenHosts(os.Getenv); err == nil && hosts.Default != "" {
		return hosts.Default
	}
	if known := r.KnownRegistries(); len(known) == 1 {
		return known[0]
	}
	return ""
}

// KnownRegistries returns the registries with a login, in order.
func (r *Remote) KnownRegistries() []string {
	file, err := login.Open(r.Place())
	if err != nil {
		return nil
	}
	var known []string
	for _, key := range file.Keys() {
		if host := login.HostOf(key); !slices.Contains(known, host) {
			known = append(known, host)
		}
	}
	return known
}

// bare takes the scheme from a pasted address, and notes it: it must be the right one.
func (r *Remote) bare(s string) (string, error) {
	scheme, rest, found := strings.Cut(s, "://")
	if !found {
		return s, nil
	}
	if scheme = strings.ToLower(scheme); scheme != "http" && scheme != "https" {
		return "", term.Usage("%s begins with %s://, by which no registry is reached; write its address, host:port", s, scheme)
	}
	rest = strings.TrimRight(rest, "/")
	registry, _, _ := strings.Cut(rest, "/")
	if r.schemes == nil {
		r.schemes = map[string]string{}
	}
	r.schemes[registry] = scheme
	return rest, nil
}

// withItsPort names the login that has a port, where an address leaves it out.
func (r *Remote) withItsPort(registry string) (string, error) {
	if _, _, err := net.SplitHostPort(registry); err == nil {
		return registry, nil
	}
	known := append(r.KnownRegistries(), r.DefaultRegistry())
	if slices.Contains(known, registry) {
		return registry, nil
	}
	var same []string
	for _, one := range known {
		if strings.EqualFold(walk.HostOf(one), walk.HostOf(registry)) && !slices.Contains(same, one) {
			same = append(same, one)
		}
	}
	if len(same) == 0 {
		return registry, nil
	}
	if len(same) > 1 {
		return "", term.Usage("%s leaves the port out, and there are logins for %s; write the port", registry, strings.Join(same, " and "))
	}
	if scheme := r.schemes[registry]; scheme != "" {
		r.schemes[same[0]] = scheme
	}
	return same[0], nil
}

// ExactRegistry reads an argument that names a registry, as it is written.
func (r *Remote) ExactRegistry(s string) (string, error) {
	plain, err := r.bare(s)
	if err != nil {
		return "", err
	}
	registry, err := oci.ParseRegistry(plain)
	if err != nil {
		return "", term.Usage("%w", err)
	}
	return registry, nil
}

// errNoRegistry is the wrong use of a command that names no registry.
func errNoRegistry() error {
	return term.Usage("no registry is named, and there is no default one; name one, or make one the default with: %s login REGISTRY --default", term.ProgramName())
}

// isAddress reports whether an argument is that of a registry, and nothing that
// something in a registry is called.
func (r *Remote) isAddress(s string) bool {
	plain, err := r.bare(s)
	if err != nil {
		return false
	}
	if _, err := oci.ParseRegistry(plain); err != nil {
		return false
	}
	known := func(one string) bool { return one == plain || walk.HostOf(one) == plain }
	return plain != s || plain == "localhost" || strings.Contains(plain, ":") || net.ParseIP(plain) != nil || slices.ContainsFunc(r.KnownRegistries(), known) || known(r.DefaultRegistry())
}
