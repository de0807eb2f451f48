// Package image answers what is in a repository: tags, images, and where a digest is.
package image

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
	huma.Register(a, desk.At(http.MethodGet, "/tags", "tags", "List the tags of a repository"), d.tags)
	huma.Register(a, desk.At(http.MethodPost, "/tags", "change-tags", "Add, move, rename and remove tags, all or none"), d.changeTags)
	huma.Register(a, desk.At(http.MethodGet, "/tag-log", "tag-log", "List what tags pointed to, when and by whom"), d.tagLog)
	huma.Register(a, desk.At(http.MethodGet, "/next-version", "next-version", "Tell the next version of a repository"), d.nextVersion)
	huma.Register(a, desk.At(http.MethodPost, "/next-version", "hold-next-version", "Hold the name of the next version for the caller"), d.holdNextVersion)
	huma.Register(a, desk.At(http.MethodGet, "/reservations", "reservations", "List the tag names that are reserved in a repository"), d.reservations)
	huma.Register(a, desk.At(http.MethodDelete, "/reservations", "release-reservation", "Release a tag name that is reserved"), d.releaseReservation)
	huma.Register(a, desk.At(http.MethodGet, "/image", "image", "Look into an image, an index or an artifact"), d.image)
	huma.Register(a, desk.At(http.MethodGet, "/find", "find", "Find a repository, a tag or a digest"), d.find)
	huma.Register(a, desk.At(http.MethodPost, "/seal", "change-seal", "Seal a tag by hand, or take the seal away"), d.changeSeal)
}
