// Package upkeep answers about what keeps a registry in order: the work beside
// requests.
package upkeep

import (
	"net/http"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gin-gonic/gin"

	"warthesis/internal/httpd/management/desk"
)

type door struct{ *desk.Desk }

// Register puts the routes of this area into the API.
func Register(_ gin.IRouter, a huma.API, o *desk.Desk) {
	d := &door{o}
	huma.Register(a, desk.At(http.MethodGet, "/runs", "runs", "List runs: the work beside requests"), d.runs)
	huma.Register(a, desk.At(http.MethodGet, "/runs/{id}", "run", "One run"), d.run)
	huma.Register(a, desk.At(http.MethodPost, "/runs/{id}/stop", "stop-run", "Stop a run that waits or goes"), d.stopRun)
	huma.Register(a, desk.At(http.MethodGet, "/run-kinds", "run-kinds", "The kinds of work beside requests, and when they run by themselves"), d.runKinds)
}
