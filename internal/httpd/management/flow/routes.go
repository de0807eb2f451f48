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
	huma.Register(a, desk.At(http.MethodGet, "/replications", "replications", "List replication rules, and how it stands with them"), d.replications)
	huma.Register(a, desk.At(http.MethodPost, "/replications", "make-replication", "Make a replication rule"), d.makeReplication)
	huma.Register(a, desk.At(http.MethodGet, "/replication-rules", "replication-rules", "Show all replication rules as YAML"), d.document)
	huma.Register(a, desk.At(http.MethodPut, "/replication-rules", "set-replication-rules", "Make the rules of a document those that there are"), d.setDocument)
	huma.Register(a, desk.At(http.MethodGet, "/replications/{name}", "replication", "Show a replication rule, and how it stands with it"), d.replication)
	huma.Register(a, desk.At(http.MethodPut, "/replications/{name}", "change-replication", "Change what a replication rule says"), d.changeReplication)
	huma.Register(a, desk.At(http.MethodDelete, "/replications/{name}", "remove-replication", "Remove a replication rule; what it copied stays"), d.removeReplication)
	huma.Register(a, desk.At(http.MethodPost, "/replications/{name}/run", "run-replication", "Let a replication rule act now on all that it means"), d.runReplication)
	huma.Register(a, desk.At(http.MethodPost, "/replications/{name}/pause", "pause-replication", "Pause a replication rule, or let it act again"), d.pauseReplication)
	huma.Register(a, desk.At(http.MethodGet, "/replications/{name}/due", "replication-due", "List what is due by a replication rule"), d.due)
	huma.Register(a, desk.At(http.MethodGet, "/replications/{name}/drift", "replication-drift", "Show where both sides differ, as of the last comparison"), d.drift)
	huma.Register(a, desk.At(http.MethodPost, "/replications/{name}/drift", "compare-replication", "Compare both sides of a replication rule"), d.askDrift)
	huma.Register(a, desk.At(http.MethodGet, "/replications/{name}/samples", "replication-samples", "Show how a replication rule fared"), d.samples)
	huma.Register(a, desk.At(http.MethodGet, "/arrivals", "arrivals", "List what is carried in by list: copies, parcels, imports"), d.arrivals)
	huma.Register(a, desk.At(http.MethodGet, "/imports", "imports", "List imports: what is brought in from peers by naming it"), d.imports)
	huma.Register(a, desk.At(http.MethodPost, "/imports", "make-import", "Bring in repositories of a peer with all their tags, once or to be repeated"), d.makeImport)
	huma.Register(a, desk.At(http.MethodGet, "/imports/{name}", "import", "Show an import, with its report"), d.oneImport)
	huma.Register(a, desk.At(http.MethodDelete, "/imports/{name}", "remove-import", "Remove an import; what it brought stays"), d.removeImport)
	huma.Register(a, desk.At(http.MethodPost, "/imports/{name}/run", "run-import", "Let an import run now"), d.runImport)
	announce := desk.At(http.MethodPost, "/arrivals", "make-arrival", "Announce what is carried in, or ask whether there is room for it")
	announce.MaxBodyBytes = mostArrival
	huma.Register(a, announce, d.makeArrival)
	huma.Register(a, desk.At(http.MethodGet, "/arrivals/{id}", "arrival", "Show what is carried in, with its report"), d.arrival)
	tell := desk.At(http.MethodPatch, "/arrivals/{id}", "tell-arrival", "Tell how far it is, or that it is over")
	tell.MaxBodyBytes = mostArrival
	huma.Register(a, tell, d.tellArrival)
	huma.Register(a, desk.At(http.MethodDelete, "/arrivals/{id}", "stop-arrival", "Wait no longer for what is carried in"), d.stopArrival)
}

// mostArrival bounds the bytes of what is told of an arrival.
const mostArrival = 8 << 20
