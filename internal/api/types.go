// Package api holds the Go types of the management API and its typed client. The
// service's OpenAPI document and the console's types are made from these types;
// nothing about the API is written twice.
package api

import (
	"time"

	"warthesis/internal/oci"
)

// Service is what a registry says about itself.
type Service struct {
	Version string `json:"version" doc:"Version of the program"`
	Address string `json:"address" doc:"The registry's address as it stands in references, host and port"`
	TLS     bool   `json:"tls" doc:"Whether the address is served over TLS"`
	Company string `json:"company,omitempty" doc:"Name of the company's login, where there is one"`
}

// Repository is a repository with its counts.
type Repository struct {
	Name        oci.Name   `json:"name" doc:"Full name, the namespace first"`
	Namespace   string     `json:"namespace" doc:"First component of the name"`
	Description string     `json:"description,omitempty"`
	Labels      Labels     `json:"labels" nullable:"false"`
	Visibility  string     `json:"visibility" doc:"open, closed, or inherited: as the namespace has it"`
	Open        bool       `json:"open" doc:"Whether anybody may pull"`
	Role        string     `json:"role,omitempty" doc:"The caller's role there"`
	Tags        int64      `json:"tags" doc:"Number of tags"`
	Manifests   int64      `json:"manifests" doc:"Number of manifests and indexes"`
	Size        int64      `json:"size" doc:"Bytes of the distinct content that the repository holds"`
	CreatedAt   time.Time  `json:"created_at"`
	PushedAt    time.Time  `json:"pushed_at" doc:"When a manifest last came"`
	PulledAt    *time.Time `json:"pulled_at,omitempty" doc:"When a manifest was last pulled; absent for never"`
	Pulls       int64      `json:"pulls" doc:"Pulls of manifests so far"`
}

// RepositoryList is a page of repositories.
type RepositoryList struct {
	Repositories []Repository `json:"repositories" nullable:"false"`
	Next         string       `json:"next,omitempty" doc:"Pass it as after for the next page; absent on the last"`
}

// Tag is a tag with what it points to.
type Tag struct {
	Name         oci.Tag    `json:"name"`
	Digest       oci.Digest `json:"digest"`
	MediaType    string     `json:"media_type"`
	ArtifactType string     `json:"artifact_type,omitempty"`
	Platforms    []string   `json:"platforms" nullable:"false" doc:"What it runs on, as os/architecture"`
	Size         int64      `json:"size" doc:"Bytes of all that a full pull brings"`
	MovedAt      time.Time  `json:"moved_at" doc:"When the tag was made or last moved"`
	MovedBy      string     `json:"moved_by,omitempty"`
	PulledAt     *time.Time `json:"pulled_at,omitempty"`
	Pulls        int64      `json:"pulls"`
}

// TagList is a page of tags.
type TagList struct {
	Tags []Tag  `json:"tags" nullable:"false"`
	Next string `json:"next,omitempty" doc:"Pass it as after for the next page; absent on the last"`
}

// Descriptor names content.
type Descriptor struct {
	MediaType string     `json:"media_type"`
	Digest    oci.Digest `json:"digest"`
	Size      int64      `json:"size" doc:"Bytes"`
}

// Layer is a layer with the step that made it.
type Layer struct {
	Descriptor
	Step         string `json:"step,omitempty" doc:"The build step that made the layer, where the history says"`
	Repositories int64  `json:"repositories" doc:"Number of repositories that hold the layer"`
}

// RunSettings are how a container image runs.
type RunSettings struct {
	User       string            `json:"user,omitempty"`
	Entrypoint []string          `json:"entrypoint" nullable:"false"`
	Command    []string          `json:"command" nullable:"false"`
	Directory  string            `json:"directory,omitempty"`
	Env        []string          `json:"env" nullable:"false"`
	Ports      []string          `json:"ports" nullable:"false"`
	Volumes    []string          `json:"volumes" nullable:"false"`
	Labels     map[string]string `json:"labels" nullable:"false"`
	StopSignal string            `json:"stop_signal,omitempty"`
}

// PlatformImage is the image of one platform.
type PlatformImage struct {
	Platform    string       `json:"platform,omitempty" doc:"As os/architecture; absent where neither index nor config says"`
	Digest      oci.Digest   `json:"digest"`
	MediaType   string       `json:"media_type"`
	ContentSize int64        `json:"content_size" doc:"Bytes of manifest, config and layers"`
	Config      *Descriptor  `json:"config,omitempty"`
	Created     *time.Time   `json:"created,omitempty" doc:"When the image says it was built"`
	Run         *RunSettings `json:"run,omitempty" doc:"Absent where there is no container image configuration"`
	Layers      []Layer      `json:"layers" nullable:"false"`
}

// Image is one manifest or index, looked into.
type Image struct {
	Repository   oci.Name          `json:"repository"`
	Digest       oci.Digest        `json:"digest"`
	MediaType    string            `json:"media_type"`
	ArtifactType string            `json:"artifact_type,omitempty"`
	Size         int64             `json:"size" doc:"Bytes of the document itself"`
	ContentSize  int64             `json:"content_size" doc:"Bytes of all that a full pull brings"`
	Tags         []oci.Tag         `json:"tags" nullable:"false" doc:"All tags that point here"`
	PushedAt     time.Time         `json:"pushed_at"`
	PushedBy     string            `json:"pushed_by,omitempty"`
	Pulls        int64             `json:"pulls"`
	PulledAt     *time.Time        `json:"pulled_at,omitempty"`
	Subject      oci.Digest        `json:"subject,omitempty"`
	Annotations  map[string]string `json:"annotations" nullable:"false"`
	Platforms    []PlatformImage   `json:"platforms" nullable:"false" doc:"The images of an index, or the one image"`
	Raw          string            `json:"raw" doc:"The document as it was pushed"`
}

// Place is where something was found.
type Place struct {
	Repository oci.Name   `json:"repository"`
	Relation   string     `json:"relation" doc:"repository, tag, manifest, config, layer, child or subject"`
	Tag        oci.Tag    `json:"tag,omitempty"`
	Digest     oci.Digest `json:"digest,omitempty"`
	Holder     oci.Digest `json:"holder,omitempty" doc:"The manifest that names it"`
	MediaType  string     `json:"media_type,omitempty"`
	Size       int64      `json:"size,omitempty" doc:"Bytes"`
}

// FindResult is what a search found.
type FindResult struct {
	Places []Place `json:"places" nullable:"false"`
	More   bool    `json:"more" doc:"Whether there is more than is shown; write more of the name or the digest"`
}

// Change is something that happened, as it is told to open consoles.
type Change struct {
	Kind       string     `json:"kind" doc:"manifest-pushed, manifest-deleted, tag-moved, tag-deleted or blob-deleted"`
	Repository oci.Name   `json:"repository"`
	Tag        oci.Tag    `json:"tag,omitempty"`
	Digest     oci.Digest `json:"digest,omitempty"`
	At         time.Time  `json:"at"`
}

// StillThere is sent on a quiet stream of changes, so that both ends see a broken line.
type StillThere struct {
	At time.Time `json:"at"`
}

// Problem is an error of the API (RFC 9457).
type Problem struct {
	Title  string          `json:"title,omitempty"`
	Status int             `json:"status"`
	Detail string          `json:"detail,omitempty"`
	Errors []ProblemDetail `json:"errors,omitempty"`
}

// ProblemDetail says what is wrong with one part of a request.
type ProblemDetail struct {
	Message  string `json:"message,omitempty"`
	Location string `json:"location,omitempty"`
}
