package api

import (
	"context"
	"net/http"
	"net/url"
	"strconv"
	"time"

	"warthesis/internal/oci"
	"warthesis/internal/rule"
)

// TagChange is one change of a tag.
type TagChange struct {
	Act  string     `json:"act" enum:"add,move,rename,remove"`
	Tag  oci.Tag    `json:"tag" maxLength:"128"`
	To   string     `json:"to,omitempty" maxLength:"256" doc:"The tag or digest to point at, of add and move"`
	Name oci.Tag    `json:"name,omitempty" maxLength:"128" doc:"The new name, of rename"`
	If   oci.Digest `json:"if,omitempty" maxLength:"256" doc:"What the tag has to point to; where it does not, nothing is changed"`
}

// TagChanges are changes of tags, one after the other, all or none.
type TagChanges struct {
	Changes []TagChange `json:"changes" minItems:"1" maxItems:"1000" nullable:"false"`
	Reason  string      `json:"reason,omitempty" maxLength:"500" doc:"Why, for the list of removals"`
}

// TagChanged is what a change did.
type TagChanged struct {
	TagChange
	Before oci.Digest `json:"before,omitempty" doc:"What the tag pointed to; absent where there was none"`
	After  oci.Digest `json:"after,omitempty" doc:"What it, or the new name, points to; absent where it was removed"`
}

// TagsChanged is what changes did, in their order.
type TagsChanged struct {
	Changes []TagChanged `json:"changes" nullable:"false"`
	Removal int64        `json:"removal,omitempty" doc:"The removal by which all tags went that were removed, so that it can be undone"`
	Until   *time.Time   `json:"until,omitempty" doc:"Until about when it can be undone"`
}

// TagMove is a line of the tag log.
type TagMove struct {
	ID   int64      `json:"id"`
	Tag  oci.Tag    `json:"tag"`
	At   time.Time  `json:"at"`
	From oci.Digest `json:"from,omitempty" doc:"What the tag pointed to before; absent for a tag that was new"`
	To   oci.Digest `json:"to,omitempty" doc:"What it points to since; absent where it was removed"`
	// Until is when the next line of the same tag was written.
	Until  *time.Time `json:"until,omitempty" doc:"Until when; absent where it does still"`
	By     string     `json:"by,omitempty"`
	Token  string     `json:"token,omitempty" doc:"The token by which the account came, shown to those who may push"`
	Origin string     `json:"origin" doc:"push, hand, undo, or the peer it came from"`
	There  bool       `json:"there" doc:"Whether what it points to since is here still, so that the tag can be put back"`
}

// TagMoveList is a page of the tag log, the newest line first.
type TagMoveList struct {
	Moves []TagMove `json:"moves" nullable:"false"`
	Next  int64     `json:"next,omitempty" doc:"Pass it as before for the next page; absent on the last"`
}

// NextVersion is the next version of a repository.
type NextVersion struct {
	Tag oci.Tag `json:"tag"`
	// HeldUntil is about when, since it counts while the service runs.
	HeldUntil *time.Time `json:"held_until,omitempty" doc:"Until about when the name is held for the caller; absent where it was not asked for"`
}

// Reservation is a tag name that nobody but one account can use for now.
type Reservation struct {
	Tag   oci.Tag   `json:"tag"`
	By    string    `json:"by" doc:"The account for which it is reserved"`
	Until time.Time `json:"until" doc:"About when the reservation ends"`
}

// ReservationList is a page of reserved tag names, in order.
type ReservationList struct {
	Reservations []Reservation `json:"reservations" nullable:"false"`
	Next         oci.Tag       `json:"next,omitempty" doc:"Pass it as after for the next page; absent on the last"`
}

// NextVersion returns the next version of a repository, and holds its name for the caller
// where that is wanted.
func (c *Client) NextVersion(ctx context.Context, name oci.Name, step rule.Step, hold bool) (NextVersion, error) {
	q := Given(map[string]string{"repository": string(name), "part": string(step.Part), "word": step.Word, "prefix": step.Prefix})
	method := http.MethodGet
	if hold {
		method = http.MethodPost
	}
	var next NextVersion
	return next, c.Do(ctx, method, "/api/v1/next-version", q, nil, &next)
}

// ChangeTags changes tags of a repository, all or none. It fails with CodeTagMoved where
// a tag does not point to what a change says.
func (c *Client) ChangeTags(ctx context.Context, name oci.Name, changes TagChanges) (TagsChanged, error) {
	var done TagsChanged
	return done, c.Do(ctx, http.MethodPost, "/api/v1/tags", url.Values{"repository": {string(name)}}, changes, &done)
}

// TagLog returns up to limit lines of a tag's log, or with "" of those of all tags.
func (c *Client) TagLog(ctx context.Context, name oci.Name, tag oci.Tag, before int64, limit int) (TagMoveList, error) {
	q := Given(map[string]string{"repository": string(name), "tag": string(tag), "limit": strconv.Itoa(limit)})
	if before != 0 {
		q.Set("before", strconv.FormatInt(before, 10))
	}
	var list TagMoveList
	return list, c.get(ctx, "/api/v1/tag-log", q, &list)
}
