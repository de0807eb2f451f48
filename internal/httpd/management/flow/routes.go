// Package flow answers about what travels between registries: peers, and what is at them.
package flow

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
	huma.Register(a, desk.At(http.MethodGet, "/peers", "peers", "List peers: other registries that this one talks to"), d.peers)
	huma.Register(a, desk.At(http.MethodPost, "/peers", "make-peer", "Make a peer, once its test passes"), d.makePeer)
	huma.Register(a, desk.At(http.MethodGet, "/peers/{name}", "peer", "Show a peer"), d.peer)
	huma.Register(a, desk.At(http.MethodPatch, "/peers/{name}", "change-peer", "Change a peer, once its test passes"), d.changePeer)
	huma.Register(a, desk.At(http.MethodDelete, "/peers/{name}", "remove-peer", "Remove a peer"), d.removePeer)
	huma.Register(a, desk.At(http.MethodPost, "/peers/{name}/test", "test-peer", "Walk the way to a peer step by step"), d.testPeer)
	huma.Register(a, desk.At(http.MethodGet, "/peers/{name}/repositories", "peer-repositories", "List the repositories of a peer"), d.peerRepositories)
	huma.Register(a, desk.At(http.MethodGet, "/peers/{name}/tags", "peer-tags", "List the tags of a repository of a peer"), d.peerTags)
	huma.Register(a, desk.At(http.MethodGet, "/peers/{name}/image", "peer-image", "Look into an image of a peer"), d.peerImage)
	huma.Register(a, desk.At(http.MethodGet, "/follows", "follows", "List which namespaces follow which peers"), d.follows)
	huma.Register(a, desk.At(http.MethodGet, "/follow", "follow", "Show which peers a namespace follows"), d.follow)
	huma.Register(a, desk.At(http.MethodPut, "/follow", "set-follow", "Let a namespace follow peers: what it lacks is fetched when it is pulled, and kept"), d.setFollow)
	huma.Register(a, desk.At(http.MethodDelete, "/follow", "remove-follow", "Let a namespace follow nobody"), d.removeFollow)
	huma.Register(a, desk.At(http.MethodPost, "/peers/{name}/tags", "change-peer-tag", "Add, rename or remove a tag at a peer"), d.changePeerTag)
}
