package management

import (
	"strings"

	"github.com/gin-gonic/gin"

	"warthesis/internal/httpd/callers"
	"warthesis/internal/httpd/management/desk"
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
			desk.Problem(c, err)
			return
		}
		ctx := callers.WithBase(callers.With(c.Request.Context(), caller), k.Base(c))
		c.Request = c.Request.WithContext(registry.WithCaller(ctx, callers.ForRegistry(caller)))
	}
}

// OnlyHere refuses, in a trial, what comes from elsewhere by way of a browser here.
func OnlyHere(k *callers.Callers) gin.HandlerFunc {
	return func(c *gin.Context) {
		if err := k.OnlyHere(c); err != nil {
			desk.Problem(c, err)
		}
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
			desk.Problem(c, err)
		}
	}
}
