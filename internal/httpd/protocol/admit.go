package protocol

import (
	"context"
	"errors"
	"fmt"
	"math"
	"net/http"
	"strconv"
	"strings"

	"github.com/gin-gonic/gin"

	"warthesis/internal/access"
	"warthesis/internal/access/bearer"
	"warthesis/internal/access/passwords"
	"warthesis/internal/httpd/callers"
	"warthesis/internal/oci"
	"warthesis/internal/record"
	"warthesis/internal/registry"
)

// wants returns the right that a method takes on a kind of path. To be told that
// content is there, the right to push is as good as that to pull.
func wants(k kind, method string) access.Action {
	switch {
	case k == uploadsPath || k == uploadPath:
		return access.Push
	case method == http.MethodPut:
		return access.Push
	case method == http.MethodDelete:
		return access.Delete
	}
	return access.Pull
}

// mayCheck reports whether a request only asks whether content is there.
func mayCheck(k kind, method string) bool {
	return method == http.MethodHead && (k == blobPath || k == manifestPath)
}

// callerKey is where the request's caller is kept, and makesKey what its push may make.
const (
	callerKey = "caller"
	makesKey  = "makes"
)

// admit lets a request through to what it asks for, hides the repository from it,
// or refuses it.
func (d *Door) admit(c *gin.Context, caller access.Caller, r route, name oci.Name) error {
	action := wants(r.kind, c.Request.Method)
	v, err := d.verdict(c.Request.Context(), caller, r.kind, c.Request.Method, name, action)
	if err != nil {
		return err
	}
	if v.Allowed {
		c.Set(makesKey, v.Makes)
		return nil
	}
	scope := bearer.AskedScope{Type: "repository", Name: string(name), Actions: []access.Action{action}}
	if action == access.Push {
		scope.Actions = []access.Action{access.Pull, access.Push}
	}
	if caller.Nobody() || v.Elsewise {
		return d.challenge(c, v.Reason, scope)
	}
	e := caller.Event(record.EventRefused)
	e.Repository, e.Detail = name, v.Reason
	d.access.Refused(e, action)
	if !v.Known && action != access.Push {
		c.Request = c.Request.WithContext(registry.Hide(c.Request.Context()))
		return nil
	}
	return oci.Errorf(oci.CodeDenied, "%s", v.Reason)
}

func (d *Door) verdict(ctx context.Context, caller access.Caller, k kind, method string, name oci.Name, action access.Action) (access.Verdict, error) {
	switch {
	case mayCheck(k, method):
		return d.access.MayCheck(ctx, caller, name)
	case action == access.Push:
		return d.access.MayPush(ctx, caller, name)
	}
	return d.access.Verdict(ctx, caller, name, action)
}

// challenge refuses with where a better token is to be had (RFC 6750, section 3).
func (d *Door) challenge(c *gin.Context, reason string, scopes ...bearer.AskedScope) error {
	words := make([]string, len(scopes))
	for i, s := range scopes {
		words[i] = s.String()
	}
	header := fmt.Sprintf(`Bearer realm="%s%s",service="%s"`, d.callers.Base(c), TokenPath, d.callers.Base(c).Host)
	if len(scopes) > 0 {
		header += fmt.Sprintf(`,scope="%s"`, strings.Join(words, " "))
	}
	if callers.Came(c) {
		header += `,error="insufficient_scope"`
	}
	c.Header("WWW-Authenticate", header)
	return oci.Errorf(oci.CodeUnauthorized, "%s", reason)
}

// unknownCaller refuses credentials that are not good.
func (d *Door) unknownCaller(c *gin.Context, err error) error {
	if errors.Is(err, oci.CodeUnauthorized) {
		c.Header("WWW-Authenticate", fmt.Sprintf(`Bearer realm="%s%s",service="%s",error="invalid_token"`, d.callers.Base(c), TokenPath, d.callers.Base(c).Host))
	}
	return tooSoon(c, err)
}

// tooSoon says when a try that came too soon may come again.
func tooSoon(c *gin.Context, err error) error {
	var slow *passwords.SlowDown
	if errors.As(err, &slow) {
		c.Header("Retry-After", strconv.Itoa(int(math.Ceil(slow.After.Seconds()))))
		return oci.Errorf(oci.CodeTooManyRequests, "%s", slow.Error())
	}
	return err
}

// callerOf returns who asks, once serve has found out.
func callerOf(c *gin.Context) access.Caller {
	if caller, ok := c.Value(callerKey).(*access.Caller); ok {
		return *caller
	}
	return access.Caller{}
}

// as returns the request's context with who asks.
func (d *Door) as(c *gin.Context) context.Context {
	caller := callers.ForRegistry(callerOf(c))
	caller.Makes, _ = c.Value(makesKey).(record.Maker)
	return registry.WithCaller(c.Request.Context(), caller)
}
