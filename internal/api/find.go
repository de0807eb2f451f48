package api

import "warthesis/internal/oci"

// Place is where something was found.
type Place struct {
	Repository oci.Name   `json:"repository"`
	Relation   string     `json:"relation" doc:"repository, tag, manifest, config, layer, child or subject"`
	Tag        oci.Tag    `json:"tag,omitempty"`
	Digest     oci.Digest `json:"digest,omitempty"`
	Holder     oci.Digest `json:"holder,omitempty" doc:"The manifest that names it"`
	MediaType  string     `json:"media_type,omitempty"`
	Size       int64      `json:"size,omitempty" doc:"Bytes"`
	// What the manifest is that is found, or that names what is found.
	ArtifactType string   `json:"artifact_type,omitempty"`
	Platforms    []string `json:"platforms,omitempty" doc:"What the manifest that is found, or names it, runs on"`
	Tags         []string `json:"tags,omitempty" doc:"Some of the tags that point to that manifest"`
}

// FindResult is what a search found.
type FindResult struct {
	Places []Place `json:"places" nullable:"false"`
	More   bool    `json:"more" doc:"Whether there is more than is shown; write more of the name or the digest"`
}
