package api

import (
	"time"

	"warthesis/internal/oci"
)

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
	Seal         *Seal      `json:"seal,omitempty" doc:"Why the tag neither moves nor goes; absent where it may"`
	Missing      int64      `json:"missing,omitempty" doc:"How many blobs and manifests of it a peer has and this registry has not yet: they come when they are pulled"`
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
	Missing     int64        `json:"missing,omitempty" doc:"How many blobs of it, or 1 for the manifest itself, are not here yet"`
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
	Missing      int64             `json:"missing,omitempty" doc:"How many blobs and manifests of it a peer has and this registry has not yet: they come when they are pulled"`
}
