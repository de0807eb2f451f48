package management

import (
	"context"
	"errors"
	"math"
	"net/http"
	"strconv"
	"strings"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gin-gonic/gin"

	"warthesis/internal/access"
	"warthesis/internal/api"
	"warthesis/internal/httpd/callers"
	"warthesis/internal/oci"
	"warthesis/internal/record"
	"warthesis/internal/registry"
)

// Who finds out who sends a request of the management API, before it is answered.
func Who(k *callers.Callers) gin.HandlerFunc {
	return func(c *gin.Context) {
		if !strings.HasPrefix(c.Request.URL.Path, "/api/v1/") {
			return
		}
		caller, err := k.Session(c)
		if err != nil {
			problem(c, err)
			return
		}
		ctx := callers.WithBase(callers.With(c.Request.Context(), caller), k.Base(c))
		c.Request = c.Request.WithContext(registry.WithCaller(ctx, callers.ForRegistry(caller)))
	}
}

// Observers lets those with a role on the registry through.
func Observers(k *callers.Callers) gin.HandlerFunc {
	return func(c *gin.Context) {
		caller, err := k.Session(c)
		if err == nil {
			err = k.Access.MayObserve(caller)
		}
		if err != nil {
			problem(c, err)
		}
	}
}

// problem answers before the API library has the request.
func problem(c *gin.Context, err error) {
	err = refusal(err)
	var said huma.StatusError
	errors.As(err, &said)
	var headed huma.HeadersError
	if errors.As(err, &headed) {
		for name, values := range headed.GetHeaders() {
			c.Writer.Header()[name] = values
		}
	}
	c.Header("Content-Type", "application/problem+json")
	c.AbortWithStatusJSON(said.GetStatus(), api.Problem{Title: http.StatusText(said.GetStatus()), Status: said.GetStatus(), Detail: said.Error()})
}

// tooSoon is the refusal of a try that came too soon.
func tooSoon(slow *access.SlowDown) error {
	header := http.Header{"Retry-After": {strconv.Itoa(int(math.Ceil(slow.After.Seconds())))}}
	return huma.ErrorWithHeaders(huma.Error429TooManyRequests(slow.Error()), header)
}

// visible refuses whoever may not pull from a repository as if there were none.
func (d *door) visible(ctx context.Context, name oci.Name) error {
	caller := callers.From(ctx)
	v, err := d.Access.Verdict(ctx, caller, name, access.Pull)
	if err != nil || v.Allowed {
		return err
	}
	if caller.Nobody() {
		return oci.Errorf(oci.CodeUnauthorized, "not logged in: only what anybody may pull is shown without a login")
	}
	e := caller.Event(record.EventRefused)
	e.Repository, e.Detail = name, v.Reason
	d.Access.Refused(e, access.Pull)
	return noRepository(name)
}

func noRepository(name oci.Name) error {
	return oci.Errorf(oci.CodeNameUnknown, "there is no repository %s here; it is made by the first push to it", name)
}

// seen returns what the caller may see in lists.
func (d *door) seen(ctx context.Context) record.Seen { return d.Access.Seen(callers.From(ctx)) }
