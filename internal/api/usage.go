package api

import (
	"context"
	"net/http"
	"net/url"
	"time"

	"warthesis/internal/oci"
)

// Usage is how much a place holds.
type Usage struct {
	Place   oci.Name `json:"place,omitempty" doc:"A namespace or a repository; absent for the registry"`
	Seen    int64    `json:"seen" doc:"Bytes that readers see there"`
	Own     int64    `json:"own" doc:"Bytes of those that nothing else holds that the caller sees"`
	Waiting int64    `json:"waiting" doc:"Bytes that only wait for restore windows"`
	Free    int64    `json:"free" doc:"Bytes that a sweep takes now, about; 0 for the registry, of which the preview of a sweep tells"`
	Held    int64    `json:"held,omitempty" doc:"Bytes that count for the namespace's quota: also those that wait"`
	Images  int64    `json:"images"`
	Tags    int64    `json:"tags"`

	Quotas   []Quota      `json:"quotas" nullable:"false" doc:"Quotas around the place, with what is used of them"`
	Reserved int64        `json:"reserved,omitempty" doc:"Bytes that open uploads are to bring to the namespace"`
	Cost     *Cost        `json:"cost,omitempty" doc:"What it costs, where prices are set"`
	Children []UsageChild `json:"children" nullable:"false" doc:"What is in it, that with the most own bytes first"`
	Shared   []Sharer     `json:"shared" nullable:"false" doc:"Repositories that hold some of the same content"`
	Parts    []UsagePart  `json:"parts,omitempty" doc:"Of the registry: what is on the disk"`
	More     bool         `json:"more" doc:"Whether there are more children"`
}

// UsageChild is a place, an image or a layer.
type UsageChild struct {
	Kind    string     `json:"kind" enum:"namespace,repository,image"`
	Name    string     `json:"name,omitempty" doc:"Of a namespace or a repository"`
	Digest  oci.Digest `json:"digest,omitempty" doc:"Of an image"`
	Names   []oci.Tag  `json:"names,omitempty" doc:"The tags of an image"`
	Seen    int64      `json:"seen"`
	Own     int64      `json:"own"`
	Waiting int64      `json:"waiting"`
	Images  int64      `json:"images"`
	Tags    int64      `json:"tags"`
	Cost    *Cost      `json:"cost,omitempty"`
}

// Sharer is a repository that holds some of the same content.
type Sharer struct {
	Name  string `json:"name"`
	Bytes int64  `json:"bytes"`
}

// UsagePart is a part of what is on the disk.
type UsagePart struct {
	Part  string `json:"part" enum:"content,records,uploads,derived"`
	Bytes int64  `json:"bytes"`
}

// Cost is what something costs by the prices in the configuration.
type Cost struct {
	Storage  float64 `json:"storage" doc:"For what is held, a month"`
	Out      float64 `json:"out" doc:"For what went out within the last 30 days"`
	Currency string  `json:"currency"`
}

// Quota is a quota with what is used of it.
type Quota struct {
	Of    string `json:"of" enum:"namespace,account,repository"`
	Name  string `json:"name"`
	Used  int64  `json:"used" doc:"In bytes, of a repository in tags"`
	Quota int64  `json:"quota" doc:"In bytes, of a repository in tags"`
}

// QuotaList is all quotas, the fullest first.
type QuotaList struct {
	Quotas []Quota `json:"quotas" nullable:"false"`
}

// SetQuota sets a quota of a namespace, a repository or an account.
type SetQuota struct {
	Place   oci.Name `json:"place,omitempty" maxLength:"255" doc:"A namespace or a repository"`
	Account string   `json:"account,omitempty" maxLength:"100" doc:"An account, instead"`
	Quota   int64    `json:"quota" minimum:"0" doc:"In bytes, of a repository in tags; 0 for none"`
	Reason  string   `json:"reason" maxLength:"500" doc:"Why, for the audit log"`
}

// EndWindows ends the restore windows of removals early.
type EndWindows struct {
	Removals []int64 `json:"removals" nullable:"false" minItems:"1" maxItems:"1000"`
	Reason   string  `json:"reason" maxLength:"500" doc:"Why, for the audit log"`
}

// UsageSample is how much there was on a day.
type UsageSample struct {
	Day     time.Time `json:"day"`
	Seen    int64     `json:"seen"`
	Own     *int64    `json:"own,omitempty" doc:"Bytes that nothing else holds; only registry roles are told, since it depends on what closed namespaces hold"`
	Waiting int64     `json:"waiting"`
	Images  int64     `json:"images"`
	Tags    int64     `json:"tags"`
}

// UsageGrowth is how much there was, a line a day.
type UsageGrowth struct {
	Samples []UsageSample `json:"samples" nullable:"false"`
}

// TrafficLine is what went in and out.
type TrafficLine struct {
	Day      *time.Time `json:"day,omitempty"`
	Name     string     `json:"name,omitempty" doc:"The namespace or the account; absent for callers without one"`
	Pulls    int64      `json:"pulls"`
	Pushes   int64      `json:"pushes"`
	BytesOut int64      `json:"bytes_out"`
	BytesIn  int64      `json:"bytes_in"`
	Cost     *Cost      `json:"cost,omitempty"`
}

// Traffic is what went in and out, in groups.
type Traffic struct {
	Lines []TrafficLine `json:"lines" nullable:"false"`
}

// LabelSum is how much all namespaces hold with a value of a label.
type LabelSum struct {
	Value      string `json:"value,omitempty" doc:"Absent for those without the label"`
	Namespaces int    `json:"namespaces"`
	Seen       int64  `json:"seen"`
	Own        int64  `json:"own"`
	Waiting    int64  `json:"waiting"`
	Images     int64  `json:"images"`
	Tags       int64  `json:"tags"`
	BytesOut   int64  `json:"bytes_out" doc:"What went out within the last 30 days"`
	Cost       *Cost  `json:"cost,omitempty"`
}

// LabelSums are sums by the value of a label.
type LabelSums struct {
	Sums []LabelSum `json:"sums" nullable:"false"`
}

// Usage returns how much a place holds.
func (c *Client) Usage(ctx context.Context, at url.Values) (Usage, error) {
	var u Usage
	return u, c.get(ctx, "/api/v1/usage", at, &u)
}

// SetQuota sets a quota.
func (c *Client) SetQuota(ctx context.Context, set SetQuota) error {
	return c.Do(ctx, http.MethodPut, "/api/v1/quota", nil, set, nil)
}
