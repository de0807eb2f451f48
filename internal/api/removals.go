package api

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"time"

	"warthesis/internal/oci"
)

// RemovedBy says by which removal something went, so that it can be undone.
type RemovedBy struct {
	Removal int64 `json:"removal" doc:"The removal, by which it can be undone"`
	// Until is about when, since it counts while the service runs.
	Until time.Time `json:"until" doc:"Until about when"`
}

// Removal is one act with all that went by it.
type Removal struct {
	ID         int64      `json:"id"`
	Kind       string     `json:"kind" enum:"tag,manifest,blob,repository,namespace"`
	Namespace  string     `json:"namespace,omitempty" doc:"As it is called now"`
	Repository oci.Name   `json:"repository,omitempty" doc:"As it is called now"`
	Name       string     `json:"name" doc:"What went, as it was called then"`
	At         time.Time  `json:"at"`
	By         string     `json:"by,omitempty"`
	Run        int64      `json:"run,omitempty" doc:"The run of retention rules that removed it; absent where somebody did"`
	Token      string     `json:"token,omitempty" doc:"The token by which the account came"`
	Reason     string     `json:"reason,omitempty"`
	Tags       int64      `json:"tags" doc:"Number of tags that went by it and are gone still"`
	Images     int64      `json:"images" doc:"Number of manifests that went by it and are gone still"`
	Until      *time.Time `json:"until,omitempty" doc:"Until about when it can be undone; absent where it cannot"`
	UndoneAt   *time.Time `json:"undone_at,omitempty"`
	UndoneBy   string     `json:"undone_by,omitempty"`
}

// RemovalList is a page of removals, the last first.
type RemovalList struct {
	Removals []Removal `json:"removals" nullable:"false"`
	Next     int64     `json:"next,omitempty" doc:"Pass it as before for the next page; absent on the last"`
}

// GoneTag is a tag that went, or would.
type GoneTag struct {
	Tag    oci.Tag    `json:"tag"`
	Digest oci.Digest `json:"digest"`
	Now    oci.Digest `json:"now,omitempty" doc:"What a tag of the name points to meanwhile; absent for none"`
	Offer  oci.Tag    `json:"offer,omitempty" doc:"A name that is free, where that is taken"`
}

// GoneImage is a manifest that went, or would.
type GoneImage struct {
	Digest       oci.Digest `json:"digest"`
	MediaType    string     `json:"media_type"`
	ArtifactType string     `json:"artifact_type,omitempty"`
	Platforms    []string   `json:"platforms" nullable:"false"`
	Size         int64      `json:"size" doc:"Bytes of all that a full pull brings"`
}

// RemovalContents is a removal with all that went by it, up to a thousand of each.
type RemovalContents struct {
	Removal
	TagList   []GoneTag   `json:"tag_list" nullable:"false"`
	ImageList []GoneImage `json:"image_list" nullable:"false"`
}

// Kept is a manifest that stays, and why.
type Kept struct {
	GoneImage
	Relation string `json:"relation" enum:"child,subject" doc:"child: the index names it; subject: it refers to what goes"`
	Why      string `json:"why"`
}

// RemovalPlan is what a removal would take, what would stay, and what would become free.
type RemovalPlan struct {
	Kind         string      `json:"kind" enum:"manifest,repository,namespace"`
	Tags         []GoneTag   `json:"tags" nullable:"false" doc:"Of an image: the tags that go"`
	Images       []GoneImage `json:"images" nullable:"false" doc:"Of an image: the manifests that go"`
	Kept         []Kept      `json:"kept" nullable:"false" doc:"Of an image: children and referrers that stay"`
	Repositories int64       `json:"repositories,omitempty" doc:"Of a namespace"`
	TagCount     int64       `json:"tag_count"`
	ImageCount   int64       `json:"image_count"`
	Freed        int64       `json:"freed" doc:"Bytes that nothing you may see needs any more when the restore window is over"`
	Until        time.Time   `json:"until" doc:"Until about when it could be undone"`
	Sealed       []string    `json:"sealed" nullable:"false" doc:"What sealed tags would refuse it, in sentences; the first ones"`
}

// UndoRemoval says under which names what went comes back.
type UndoRemoval struct {
	As   map[oci.Tag]oci.Tag `json:"as,omitempty" doc:"Other names for tags whose own are taken"`
	Name string              `json:"name,omitempty" maxLength:"255" doc:"Another name for a repository"`
}

// RemovalUndone is what came back.
type RemovalUndone struct {
	Removal
	TagList   []GoneTag   `json:"tag_list" nullable:"false" doc:"Under the names that they have now"`
	ImageList []GoneImage `json:"image_list" nullable:"false"`
}

// TakenTag is the detail of a refusal: a tag that cannot come back under its name.
type TakenTag struct {
	Tag   oci.Tag    `json:"tag"`
	Was   oci.Digest `json:"was"`
	Is    oci.Digest `json:"is"`
	Offer oci.Tag    `json:"offer"`
}

// Undo undoes a removal.
func (c *Client) Undo(ctx context.Context, id int64, how UndoRemoval) (RemovalUndone, error) {
	var done RemovalUndone
	return done, c.Do(ctx, http.MethodPost, fmt.Sprintf("/api/v1/removals/%d/undo", id), nil, how, &done)
}

// Removals returns removals.
func (c *Client) Removals(ctx context.Context, query url.Values) (RemovalList, error) {
	var list RemovalList
	return list, c.get(ctx, "/api/v1/removals", query, &list)
}
