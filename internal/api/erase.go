package api

import (
	"context"
	"net/http"
	"net/url"
	"time"

	"warthesis/internal/oci"
)

// ErasedImage is an image that goes with content that is erased.
type ErasedImage struct {
	Repository oci.Name   `json:"repository"`
	Digest     oci.Digest `json:"digest"`
	MediaType  string     `json:"media_type"`
	Live       bool       `json:"live" doc:"Whether it can be pulled now, and does not only wait for its restore window"`
	Tags       []oci.Tag  `json:"tags" nullable:"false"`
}

// ErasePlan is all that goes with content that is erased.
type ErasePlan struct {
	Digest       oci.Digest    `json:"digest"`
	Twin         oci.Digest    `json:"twin,omitempty" doc:"The digest of the same bytes by the other algorithm, which is banned as well"`
	Unpacked     oci.Digest    `json:"unpacked,omitempty" doc:"The digest of the layer without its compression; it is banned however it is compressed"`
	Size         int64         `json:"size,omitempty"`
	Here         bool          `json:"here" doc:"Whether it is here; what is not is kept out all the same"`
	Namespace    string        `json:"namespace,omitempty" doc:"Of which namespace it is erased; absent for the registry"`
	Images       []ErasedImage `json:"images" nullable:"false" doc:"The images that go, with the indexes that name them"`
	Repositories []oci.Name    `json:"repositories" nullable:"false" doc:"The repositories that lose something, removed ones included"`
	Sealed       []string      `json:"sealed" nullable:"false" doc:"Sealed tags among those that go, in sentences"`
	OutOfReach   []string      `json:"out_of_reach" nullable:"false" doc:"Where it may still be, in sentences"`
	Mark         string        `json:"mark" doc:"Pass it on: it tells whether something else would go by then"`
}

// Erase asks for content to go at once and for good.
type Erase struct {
	Digest    oci.Digest `json:"digest" maxLength:"256"`
	Namespace string     `json:"namespace,omitempty" maxLength:"255" doc:"Of which namespace; without it, of the registry"`
	Reason    string     `json:"reason" minLength:"1" maxLength:"500" doc:"Why; whoever pushes it again is told"`
	Mark      string     `json:"mark" minLength:"1" maxLength:"64" doc:"That of the plan that you have seen"`
	OverSeals bool       `json:"over_seals,omitempty" doc:"Whether sealed tags go as well; it takes an admin"`
}

// Ban keeps content out.
type Ban struct {
	ID        int64      `json:"id"`
	Digest    oci.Digest `json:"digest"`
	Twin      oci.Digest `json:"twin,omitempty"`
	Unpacked  oci.Digest `json:"unpacked,omitempty"`
	Namespace string     `json:"namespace,omitempty" doc:"Out of which namespace; absent for the registry"`
	Size      int64      `json:"size,omitempty"`
	Reason    string     `json:"reason"`
	At        time.Time  `json:"at"`
	By        string     `json:"by,omitempty"`
	LiftedAt  *time.Time `json:"lifted_at,omitempty"`
	LiftedBy  string     `json:"lifted_by,omitempty"`
}

// BanList is a page of bans, the last first.
type BanList struct {
	Bans []Ban `json:"bans" nullable:"false"`
	Next int64 `json:"next,omitempty" doc:"Pass it as before for the next page; absent on the last"`
}

// LiftBan says why a ban is lifted.
type LiftBan struct {
	Reason string `json:"reason" minLength:"1" maxLength:"500"`
}

// ErasePlan returns what would go with content of a namespace or, with "", of the registry.
func (c *Client) ErasePlan(ctx context.Context, digest oci.Digest, namespace string) (ErasePlan, error) {
	var plan ErasePlan
	return plan, c.get(ctx, "/api/v1/erase-plan", url.Values{"digest": {digest.String()}, "namespace": {namespace}}, &plan)
}

// Erase erases content, and returns what went.
func (c *Client) Erase(ctx context.Context, how Erase) (ErasePlan, error) {
	var plan ErasePlan
	return plan, c.Do(ctx, http.MethodPost, "/api/v1/erase", nil, how, &plan)
}
