// Package callers tells the doors who sends a request and under which address the
// service is known: it reads credentials, cookies and what trusted proxies say.
package callers

import (
	"context"
	"encoding/base64"
	"errors"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"strings"

	"github.com/gin-gonic/gin"

	"warthesis/internal/access"
	"warthesis/internal/oci"
	"warthesis/internal/registry"
)

// SessionCookie carries the secret of a console session.
const SessionCookie = "warthesis_session"

// Options are what the package needs to know.
type Options struct {
	Access *access.Access
	// Outside are the addresses under which the service is reached; the first is
	// shown where a request came by none of them. Without any, requests say.
	Outside []*url.URL
	// Trusted are the proxies whose forwarded headers count.
	Trusted []netip.Prefix
	// Trial, where set, is who everybody is, whatever credentials come: a trial has no
	// logins.
	Trial *access.Caller
	// RequestID returns the ID of a request.
	RequestID func(*gin.Context) string
}

// Callers answers for requests. It is safe for concurrent use.
type Callers struct {
	Options
	cross *http.CrossOriginProtection
}

// New returns callers by the options.
func New(o Options) *Callers { return &Callers{o, http.NewCrossOriginProtection()} }

// Of returns who sends a request: an account, or nobody where no credentials came.
// It fails with oci.CodeUnauthorized where those that came are not good, and with
// an passwords.SlowDown.
func (k *Callers) Of(c *gin.Context) (access.Caller, error) {
	address := k.Address(c)
	caller, err := k.read(c, address)
	caller.Address, caller.Request = address, k.RequestID(c)
	return caller, err
}

// Address returns the network address that a request comes from, as trusted
// proxies say it. Without any it is the connection's, at no cost.
func (k *Callers) Address(c *gin.Context) string {
	if len(k.Trusted) > 0 {
		return c.ClientIP()
	}
	host, _, err := net.SplitHostPort(c.Request.RemoteAddr)
	if err != nil {
		return c.Request.RemoteAddr
	}
	return host
}

func (k *Callers) read(c *gin.Context, address string) (access.Caller, error) {
	if k.Trial != nil {
		return *k.Trial, nil
	}
	header := c.GetHeader("Authorization")
	if header == "" {
		return access.Caller{}, nil
	}
	ctx := c.Request.Context()
	scheme, rest, _ := strings.Cut(header, " ")
	rest = strings.TrimSpace(rest)
	switch strings.ToLower(scheme) {
	case "basic":
		raw, err := base64.StdEncoding.DecodeString(rest)
		name, password, found := strings.Cut(string(raw), ":")
		if err != nil || !found {
			return access.Caller{}, oci.Errorf(oci.CodeUnauthorized, "the Authorization header cannot be read: Basic takes name:password in base64")
		}
		return k.Access.Password(ctx, name, password, address)
	case "bearer":
		return k.Access.Bearer(ctx, rest, address)
	}
	return access.Caller{}, oci.Errorf(oci.CodeUnauthorized, "the Authorization header is neither Basic nor Bearer")
}

// Came reports whether a request brought credentials.
func Came(c *gin.Context) bool { return c.GetHeader("Authorization") != "" }

// Session is Of for the management API: where no header came, the console's
// session cookie counts, and the request must not come from another site.
func (k *Callers) Session(c *gin.Context) (access.Caller, error) {
	if Came(c) || k.Trial != nil {
		return k.Of(c)
	}
	address := k.Address(c)
	caller := access.Caller{Address: address, Request: k.RequestID(c)}
	if err := k.cross.Check(c.Request); err != nil {
		return caller, oci.Errorf(oci.CodeDenied, "the request comes from another site than this registry's console")
	}
	cookie, err := c.Cookie(SessionCookie)
	if err != nil || cookie == "" {
		return caller, nil
	}
	found, err := k.Access.Session(c.Request.Context(), cookie, address)
	if errors.Is(err, oci.CodeUnauthorized) {
		// A session that has ended is no session: the page shows the sign-in again.
		return caller, nil
	}
	found.Request = caller.Request
	return found, err
}

// OnlyHere refuses, in a trial, what a page of another site sends by way of a browser on
// this machine: from another origin, or under another name than this machine's own.
func (k *Callers) OnlyHere(c *gin.Context) error {
	if k.Trial == nil {
		return nil
	}
	host := c.Request.Host
	if name, _, err := net.SplitHostPort(host); err == nil {
		host = name
	}
	host = strings.Trim(host, "[]")
	ip := net.ParseIP(host)
	if host != "localhost" && (ip == nil || !ip.IsLoopback()) {
		return oci.Errorf(oci.CodeDenied, "this is a trial, for this machine alone: reach it as localhost or 127.0.0.1, not as %q", host)
	}
	if err := k.cross.Check(c.Request); err != nil {
		return oci.Errorf(oci.CodeDenied, "the request comes from another site than this registry's console")
	}
	return nil
}

type (
	key     struct{}
	baseKey struct{}
)

// With returns a context that carries who asks.
func With(ctx context.Context, caller access.Caller) context.Context {
	return context.WithValue(ctx, key{}, caller)
}

// From returns who asks.
func From(ctx context.Context) access.Caller {
	caller, _ := ctx.Value(key{}).(access.Caller)
	return caller
}

// WithBase returns a context that carries the address by which the sender of a
// request knows the service.
func WithBase(ctx context.Context, base *url.URL) context.Context {
	return context.WithValue(ctx, baseKey{}, base)
}

// BaseOf returns the address that WithBase has put there.
func BaseOf(ctx context.Context) *url.URL { return ctx.Value(baseKey{}).(*url.URL) }

// ForRegistry is what registry needs to know of a caller.
func ForRegistry(c access.Caller) registry.Caller {
	return registry.Caller{Account: c.Account.Name, AccountID: c.Account.ID, Address: c.Address, Request: c.Request, Token: c.TokenName()}
}

// Base returns the address under which the sender of a request knows the service,
// without a path.
func (k *Callers) Base(c *gin.Context) *url.URL {
	seen := &url.URL{Scheme: "http", Host: c.Request.Host}
	if c.Request.TLS != nil {
		seen.Scheme = "https"
	}
	if k.fromTrusted(c) {
		if proto := c.GetHeader("X-Forwarded-Proto"); proto == "http" || proto == "https" {
			seen.Scheme = proto
		}
		if host := c.GetHeader("X-Forwarded-Host"); host != "" {
			seen.Host = host
		}
	}
	for _, outside := range k.Outside {
		if strings.EqualFold(outside.Host, seen.Host) {
			return outside
		}
	}
	if len(k.Outside) > 0 {
		return k.Outside[0]
	}
	return seen
}

func (k *Callers) fromTrusted(c *gin.Context) bool {
	host, _, err := net.SplitHostPort(c.Request.RemoteAddr)
	if err != nil {
		return false
	}
	addr, err := netip.ParseAddr(host)
	if err != nil {
		return false
	}
	for _, prefix := range k.Trusted {
		if prefix.Contains(addr.Unmap()) {
			return true
		}
	}
	return false
}
