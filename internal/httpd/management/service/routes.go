// Package service answers about the registry as a whole.
package service

import (
	"net/http"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gin-gonic/gin"

	"warthesis/internal/access/crowd"
	"warthesis/internal/httpd/management/desk"
)

type door struct {
	*desk.Desk
	// streams bounds the streams of changes that are open.
	streams *crowd.Crowd
}

// Register puts the routes of this area into the API.
func Register(_ gin.IRouter, a huma.API, o *desk.Desk) {
	d := &door{o, crowd.NewCrowd(mostStreams, mostStreamsFromOne, "too many pages follow what happens")}
	huma.Register(a, desk.At(http.MethodGet, "/service", "service", "What this registry is"), d.service)
	huma.Register(a, desk.At(http.MethodGet, "/settings", "settings", "The registry's settings"), d.settings)
	huma.Register(a, desk.At(http.MethodPut, "/settings", "change-settings", "Change the registry's settings"), d.changeSettings)
	d.registerChanges(a, desk.At(http.MethodGet, "/changes", "changes", "What happens, as it happens"))
}
