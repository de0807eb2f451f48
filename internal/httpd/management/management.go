// Package management is the door of the management API, /api/v1: a folder an area. Its
// types are in package api; validation and the OpenAPI document come from them.
package management

import (
	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humagin"
	"github.com/gin-gonic/gin"

	"warthesis/internal/httpd/management/desk"
	"warthesis/internal/httpd/management/flow"
	"warthesis/internal/httpd/management/image"
	"warthesis/internal/httpd/management/names"
	"warthesis/internal/httpd/management/rights"
	"warthesis/internal/httpd/management/service"
	"warthesis/internal/httpd/management/upkeep"
)

// Register puts the door into the router and returns the API, whose OpenAPI
// document is also served at /api/openapi.json.
func Register(router *gin.Engine, d *desk.Desk) huma.API {
	settings := huma.DefaultConfig("Warthesis management API", d.Version)
	settings.OpenAPIPath, settings.DocsPath, settings.SchemasPath = "/api/openapi", "", ""
	settings.CreateHooks = nil
	settings.Transformers = append(settings.Transformers, desk.Sentences)
	a := humagin.New(router, settings)
	for _, register := range []func(gin.IRouter, huma.API, *desk.Desk){image.Register, names.Register, rights.Register, service.Register, upkeep.Register, flow.Register} {
		register(router, a, d)
	}
	return a
}
