package api

import (
	"context"
	"net/http"
	"net/url"
	"time"

	"warthesis/internal/oci"
)

// RuleWaiting is a repository in which a list waits, because it would take much.
type RuleWaiting struct {
	Repository oci.Name  `json:"repository"`
	Until      time.Time `json:"until" doc:"About; the wait counts while the registry runs"`
	Takes      int       `json:"takes" doc:"Number of tags and untagged images that it would take"`
	OutOf      int       `json:"out_of" doc:"Number of those that are there"`
}

// ActRules lets a list that waits act at once.
type ActRules struct {
	Reason string `json:"reason" maxLength:"500" doc:"Why, for the audit log"`
}

// TryRetention is a list of retention rules to be looked at.
type TryRetention struct {
	Words string `json:"words" maxLength:"65536" doc:"The list, as YAML"`
	Limit int    `json:"limit,omitempty" minimum:"0" maximum:"20000" default:"500" doc:"How many things are told one by one"`
}

// RetentionPreview is what retention rules would do now and on days to come.
type RetentionPreview struct {
	At           time.Time          `json:"at" doc:"When it was looked at"`
	Repositories int                `json:"repositories" doc:"Number of repositories that were looked at"`
	Reaches      int                `json:"reaches" doc:"Number of them that the rules speak of"`
	Tags         int                `json:"tags" doc:"Number of tags that were looked at"`
	Images       int                `json:"images" doc:"Number of images that were looked at"`
	Days         []RetentionDay     `json:"days" nullable:"false"`
	Items        []RetentionItem    `json:"items" nullable:"false" doc:"What goes, in the order of days and names"`
	Count        int                `json:"count" doc:"Number of all things that go within the days"`
	Spared       []RetentionItem    `json:"spared" nullable:"false" doc:"Tags that the rules as they are set let go and these would not"`
	Rules        []RetentionRule    `json:"rules" nullable:"false"`
	Undecided    int                `json:"undecided" doc:"Number of things of which no rule speaks; they stay"`
	Sealed       int                `json:"sealed" doc:"Number of things that a rule drops and that stay, because they are sealed"`
	InGrace      int                `json:"in_grace" doc:"Number of untagged images that a rule drops and that stay, because they were touched within the grace"`
	Waits        []RetentionWaiting `json:"waits" nullable:"false" doc:"Repositories of which a list would take so much that it waits once more"`
	StaleInUse   []string           `json:"stale_in_use" nullable:"false" doc:"Lists of what is in use that are asked and that nobody refreshed, or that are not there: all of their patterns stays"`
	NextRun      *time.Time         `json:"next_run,omitempty" doc:"When retention rules act next by themselves, about"`
	More         bool               `json:"more" doc:"Whether there is more than was looked at"`
}

// RetentionDay is what goes on a day.
type RetentionDay struct {
	Day    int       `json:"day" doc:"0 for now"`
	At     time.Time `json:"at"`
	Tags   int       `json:"tags"`
	Images int       `json:"images"`
	Bytes  int64     `json:"bytes" doc:"What nothing needs any more once its restore window is over, in bytes"`
}

// RetentionItem is a tag or an image that goes.
type RetentionItem struct {
	Day        int        `json:"day"`
	Repository oci.Name   `json:"repository"`
	Tag        oci.Tag    `json:"tag,omitempty" doc:"Absent for an image without one"`
	Digest     oci.Digest `json:"digest"`
	WithImage  bool       `json:"with_image" doc:"Whether the image goes with the tag"`
	Size       int64      `json:"size" doc:"What a full pull of the image brings, in bytes"`
	Why        string     `json:"why,omitempty" doc:"The rule that decides, in its own words"`
	New        bool       `json:"new" doc:"Whether the rules as they are set would not let it go"`
}

// RetentionRule is how much a rule decides of.
type RetentionRule struct {
	Of      string `json:"of"`
	Number  int    `json:"number"`
	Verb    string `json:"verb" enum:"keep,drop"`
	Words   string `json:"words"`
	Because string `json:"because,omitempty"`
	Goes    int    `json:"goes" doc:"Number of things that go by it within the days"`
	Keeps   int    `json:"keeps" doc:"Number of things that it keeps now"`
}

// RetentionWaiting is a repository of which a list would take much.
type RetentionWaiting struct {
	Repository oci.Name  `json:"repository"`
	Of         string    `json:"of"`
	Day        int       `json:"day" doc:"On which day it begins to wait"`
	Until      time.Time `json:"until"`
	Takes      int       `json:"takes"`
	OutOf      int       `json:"out_of"`
}

// RetentionExplanation says what retention rules say of a tag or an image.
type RetentionExplanation struct {
	Repository oci.Name     `json:"repository"`
	Target     string       `json:"target" doc:"The tag or digest"`
	There      bool         `json:"there" doc:"Whether there is such a tag; where there is none, it is told of one that came just now"`
	Digest     oci.Digest   `json:"digest,omitempty"`
	Outcome    string       `json:"outcome" enum:"goes,stays" doc:"What happens by the rules as they are asked now"`
	Says       string       `json:"says" doc:"All this in a sentence"`
	Day        *int         `json:"day,omitempty" doc:"On which of the next 14 days it goes, 0 for now; absent for on none of them"`
	Answers    []RuleAnswer `json:"answers" nullable:"false" doc:"The rules in the order in which they are asked"`
	Hidden     int          `json:"hidden" doc:"Number of rules that do not decide, of lists that the caller may not see; 0 to who may not push there"`
}

// AskRetention asks for a run of retention rules.
type AskRetention struct {
	Place string `json:"place,omitempty" maxLength:"255" doc:"A namespace or a repository; absent for the whole registry"`
}

// RetentionReport is what came of a run of retention rules.
type RetentionReport struct {
	Repositories int64            `json:"repositories"`
	Tags         int64            `json:"tags" doc:"Number of tags that went"`
	Images       int64            `json:"images" doc:"Number of images that went, with their last tag or by themselves"`
	Rules        []RetentionSum   `json:"rules" nullable:"false"`
	Sealed       int64            `json:"sealed" doc:"Number of things that stayed because they are sealed"`
	Waiting      int64            `json:"waiting" doc:"Number of things that stayed because a list waits"`
	InGrace      int64            `json:"in_grace" doc:"Number of untagged images that stayed because they were touched within the grace"`
	Waits        []RetentionWaits `json:"waits" nullable:"false"`
	Busy         []oci.Name       `json:"busy" nullable:"false" doc:"Repositories that changed all the time, and are left to the next run"`
	Stale        []string         `json:"stale" nullable:"false" doc:"Lists of what is in use that count as stale"`
}

// RetentionSum is how much went by a rule.
type RetentionSum struct {
	Of     string `json:"of"`
	Number int    `json:"number"`
	Words  string `json:"words"`
	Tags   int64  `json:"tags"`
	Images int64  `json:"images"`
}

// RetentionWaits is a repository of which a list would have taken much.
type RetentionWaits struct {
	Repository oci.Name `json:"repository"`
	Of         string   `json:"of"`
	Takes      int      `json:"takes"`
	OutOf      int      `json:"out_of"`
}

// InUseList is a list of what is in use somewhere.
type InUseList struct {
	Name        string     `json:"name"`
	Description string     `json:"description,omitempty"`
	Keeper      string     `json:"keeper,omitempty" doc:"The account that refreshes it; absent for admins alone"`
	FreshFor    string     `json:"fresh_for" doc:"For how long one refreshing is good"`
	Count       int        `json:"count" doc:"Number of references"`
	RefreshedAt *time.Time `json:"refreshed_at,omitempty" doc:"Absent for never"`
	RefreshedBy string     `json:"refreshed_by,omitempty"`
	Stale       bool       `json:"stale" doc:"Whether nobody refreshed it for too long: rules keep all of their pattern then"`
}

// InUseLists are the lists of what is in use.
type InUseLists struct {
	Lists []InUseList `json:"lists" nullable:"false"`
}

// MakeInUse makes a list of what is in use, or changes it.
type MakeInUse struct {
	Description string `json:"description,omitempty" maxLength:"500"`
	Keeper      string `json:"keeper,omitempty" maxLength:"100" doc:"The account that refreshes it; absent for admins alone"`
	FreshFor    string `json:"fresh_for,omitempty" maxLength:"20" doc:"For how long one refreshing is good, as in 3d, which it is where nothing is said"`
}

// RefreshInUse sets what is in use.
type RefreshInUse struct {
	References []string `json:"references" maxItems:"100000" nullable:"false" doc:"References with a tag or a digest, of this registry without a host, and digests alone"`
	Shrink     bool     `json:"shrink,omitempty" doc:"Whether the list may be empty, or half as long as before"`
}

// InUseRefreshed is what a refreshing changed.
type InUseRefreshed struct {
	Now  int `json:"now" doc:"Number of references now"`
	Came int `json:"came"`
	Left int `json:"left" doc:"Number of references that are not in it any more; they count as in use for 30 days more"`
}

// InUseEntry is a reference that is in use.
type InUseEntry struct {
	Reference string     `json:"reference"`
	Digest    oci.Digest `json:"digest,omitempty"`
	Held      bool       `json:"held" doc:"Whether what it names is held here"`
	LeftFor   *int64     `json:"left_for,omitempty" doc:"Since how many seconds it is not in the list any more; absent while it is"`
}

// InUseShown is a list with what is in it.
type InUseShown struct {
	InUseList
	Entries []InUseEntry `json:"entries" nullable:"false"`
	Next    string       `json:"next,omitempty" doc:"Pass it as after for the next page; absent on the last"`
}

// Retention says what the retention rules that are set would do at a place.
func (c *Client) Retention(ctx context.Context, at url.Values) (RetentionPreview, error) {
	var p RetentionPreview
	return p, c.get(ctx, "/api/v1/retention", at, &p)
}

// TryRetention says what a list of retention rules would do.
func (c *Client) TryRetention(ctx context.Context, at url.Values, try TryRetention) (RetentionPreview, error) {
	var p RetentionPreview
	return p, c.Do(ctx, http.MethodPost, "/api/v1/retention/preview", at, try, &p)
}
