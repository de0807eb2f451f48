// Package protocol is the door of the OCI distribution specification: it reads
// requests under /v2, asks registry, and answers in the words of the standard.
package protocol

import (
	"net/http"
	"time"

	"github.com/gin-gonic/gin"

	"warthesis/internal/access"
	"warthesis/internal/flow/follow"
	"warthesis/internal/httpd/callers"
	"warthesis/internal/oci"
	"warthesis/internal/registry"
	"warthesis/internal/work"
)

// Options are what the door needs to know.
type Options struct {
	Registry *registry.Registry
	// BodyIdle is how long a sender may stall.
	BodyIdle time.Duration
	// ManifestBytes is the largest manifest that is read.
	ManifestBytes int64
	Access        *access.Access
	// Callers tells who sends a request.
	Callers *callers.Callers
	// Budget is told of bytes that are sent.
	Budget *work.Budget
	// Follower brings what is not here from peers.
	Follower *follow.Follower
}

// Door answers /v2.
type Door struct {
	registry      *registry.Registry
	idle          time.Duration
	manifestBytes int64
	access        *access.Access
	callers       *callers.Callers
	budget        *work.Budget
	follower      *follow.Follower
}

// Register puts the door into the router.
func Register(router gin.IRouter, o Options) {
	d := &Door{registry: o.Registry, idle: o.BodyIdle, manifestBytes: o.ManifestBytes, access: o.Access, callers: o.Callers, budget: o.Budget, follower: o.Follower}
	router.Any("/v2", d.serve)
	router.Any("/v2/*path", d.serve)
	router.GET(TokenPath, d.serveToken)
	router.POST(TokenPath, d.serveToken)
}

// action answers one method of one kind of path.
type action func(*Door, *gin.Context, oci.Name, string) error

var actions = map[kind]map[string]action{
	blobPath: {
		http.MethodGet: (*Door).getBlob, http.MethodHead: (*Door).getBlob, http.MethodDelete: (*Door).deleteBlob,
	},
	uploadsPath: {
		http.MethodPost: (*Door).startUpload,
	},
	uploadPath: {
		http.MethodGet: (*Door).uploadProgress, http.MethodHead: (*Door).uploadProgress, http.MethodPatch: (*Door).appendUpload,
		http.MethodPut: (*Door).finishUpload, http.MethodDelete: (*Door).cancelUpload,
	},
	manifestPath: {
		http.MethodGet: (*Door).getManifest, http.MethodHead: (*Door).getManifest, http.MethodPut: (*Door).putManifest,
		http.MethodDelete: (*Door).deleteManifest,
	},
	tagsPath: {
		http.MethodGet: (*Door).listTags, http.MethodHead: (*Door).listTags,
	},
	referrersPath: {
		http.MethodGet: (*Door).listReferrers, http.MethodHead: (*Door).listReferrers,
	},
	digestsPath: {
		http.MethodGet: (*Door).listDigests,
	},
	extensionsPath: {
		http.MethodGet: (*Door).listExtensions,
	},
	cataloguePath: {
		http.MethodGet: (*Door).listRepositories, http.MethodHead: (*Door).listRepositories,
	},
}

func (d *Door) serve(c *gin.Context) {
	if err := d.answer(c); err != nil {
		refuse(c, d.callers.RequestID(c), err)
	}
}

func (d *Door) answer(c *gin.Context) error {
	caller, err := d.callers.Of(c)
	if err != nil {
		return d.unknownCaller(c, err)
	}
	c.Set(callerKey, &caller)
	r := parseRoute(c.Param("path"))
	switch r.kind {
	case base:
		return d.version(c)
	case nothing:
		return oci.Errorf(oci.CodeNameUnknown, "the path is not one of the distribution protocol: it ends in blobs/…, manifests/… or tags/list behind a repository's name")
	}
	do, ok := actions[r.kind][c.Request.Method]
	if !ok {
		return oci.Errorf(oci.CodeUnsupported, "%s is not possible here", c.Request.Method)
	}
	if r.kind == cataloguePath || r.kind == extensionsPath {
		return do(d, c, "", "")
	}
	name, err := oci.ParseName(r.name)
	if err != nil {
		return err
	}
	if err := d.admit(c, caller, r, name); err != nil {
		return err
	}
	return do(d, c, name, r.item)
}

// version answers the check that begins each login: without credentials it is
// refused with where to get a token (distribution-spec, "Determining Support").
func (d *Door) version(c *gin.Context) error {
	// Older clients look for it here.
	c.Header("Docker-Distribution-Api-Version", "registry/2.0")
	if c.Request.Method != http.MethodGet && c.Request.Method != http.MethodHead {
		return oci.Errorf(oci.CodeUnsupported, "the version check takes GET")
	}
	if !callers.Came(c) && d.callers.Trial == nil {
		return d.challenge(c, "not logged in to this registry")
	}
	c.JSON(http.StatusOK, struct{}{})
	return nil
}
