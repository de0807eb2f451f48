package api

import (
	"context"
	"net/url"
	"time"

	"warthesis/internal/oci"
)

// Twin is an image of the same content as another.
type Twin struct {
	Repository oci.Name   `json:"repository"`
	Digest     oci.Digest `json:"digest"`
}

// Place is where something was found.
type Place struct {
	Repository oci.Name   `json:"repository"`
	Relation   string     `json:"relation" doc:"repository, tag, manifest, config, layer, child, subject, or diff_id: what a layer unpacks to"`
	Tag        oci.Tag    `json:"tag,omitempty"`
	Digest     oci.Digest `json:"digest,omitempty"`
	Holder     oci.Digest `json:"holder,omitempty" doc:"The manifest that names it"`
	MediaType  string     `json:"media_type,omitempty"`
	Size       int64      `json:"size,omitempty" doc:"Bytes"`
	// What the manifest is that is found, or that names what is found.
	ArtifactType string   `json:"artifact_type,omitempty"`
	Platforms    []string `json:"platforms,omitempty" doc:"What the manifest that is found, or names it, runs on"`
	Tags         []string `json:"tags,omitempty" doc:"Some of the tags that point to that manifest"`
	// Layer is the layer that unpacks to the digest.
	Layer oci.Digest `json:"layer,omitempty" doc:"Of a diff_id: the layer that unpacks to it"`
	Since *time.Time `json:"since,omitempty" doc:"When that manifest came"`
	// Twins are written in another way.
	Twins []Twin `json:"twins,omitempty" doc:"Images with the same config and layers as that manifest, whose manifests are written in another way"`
}

// FindResult is what a search found.
type FindResult struct {
	Places []Place `json:"places" nullable:"false"`
	More   bool    `json:"more" doc:"Whether there is more than is shown; write more of the name or the digest"`
}

// Find looks for a name or a digest.
func (c *Client) Find(ctx context.Context, query string) (FindResult, error) {
	var found FindResult
	return found, c.get(ctx, "/api/v1/find", url.Values{"q": {query}}, &found)
}
