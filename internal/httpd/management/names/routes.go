// Package names answers about namespaces and repositories.
package names

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
	huma.Register(a, desk.At(http.MethodGet, "/repositories", "repositories", "List repositories"), d.repositories)
	huma.Register(a, desk.At(http.MethodGet, "/repository", "repository", "One repository"), d.repository)
	huma.Register(a, desk.At(http.MethodGet, "/namespaces", "namespaces", "List namespaces"), d.namespaces)
	huma.Register(a, desk.At(http.MethodPost, "/namespaces", "make-namespace", "Make a namespace"), d.makeNamespace)
	huma.Register(a, desk.At(http.MethodGet, "/namespaces/{name}", "namespace", "One namespace"), d.namespace)
	huma.Register(a, desk.At(http.MethodPatch, "/namespaces/{name}", "change-namespace", "Change a namespace"), d.changeNamespace)
	huma.Register(a, desk.At(http.MethodDelete, "/namespaces/{name}", "remove-namespace", "Remove a namespace with its repositories"), d.removeNamespace)
	huma.Register(a, desk.At(http.MethodPost, "/namespaces/{name}/restore", "restore-namespace", "Restore a removed namespace"), d.restoreNamespace)
	huma.Register(a, desk.At(http.MethodPost, "/repositories", "make-repository", "Make a repository"), d.makeRepository)
	huma.Register(a, desk.At(http.MethodPatch, "/repository", "change-repository", "Change a repository"), d.changeRepository)
	huma.Register(a, desk.At(http.MethodDelete, "/repository", "remove-repository", "Remove a repository"), d.removeRepository)
	huma.Register(a, desk.At(http.MethodPost, "/repository/restore", "restore-repository", "Restore a removed repository"), d.restoreRepository)
	huma.Register(a, desk.At(http.MethodGet, "/removed", "removed", "What was removed and can be restored"), d.removed)
}
