package api

import (
	"context"
	"net/http"
	"time"

	"warthesis/internal/oci"
)

// AskSweep asks for a sweep.
type AskSweep struct {
	Place      string `json:"place,omitempty" maxLength:"255" doc:"A namespace or a repository; without it, the registry"`
	Preview    bool   `json:"preview,omitempty" doc:"Whether it only tells what would go"`
	Unrecorded bool   `json:"unrecorded,omitempty" doc:"Whether files that no record names may go, however many they are"`
}

// AskScrub asks for a scrub.
type AskScrub struct {
	Place     string `json:"place,omitempty" maxLength:"255" doc:"A namespace or a repository; without it, the registry"`
	Reference string `json:"reference,omitempty" maxLength:"256" doc:"A tag or a digest in the repository: only that image"`
}

// Asked is the run that was asked for.
type Asked struct {
	Run    Run  `json:"run"`
	Joined bool `json:"joined" doc:"Whether it waited or went already"`
}

// Sum is how much of a kind goes or stays, and why.
type Sum struct {
	Kind  string `json:"kind" doc:"manifest, tag, holding, repository, namespace, blob, stray or leftover"`
	Why   string `json:"why" doc:"Why, as a word"`
	Says  string `json:"says" doc:"Why, as a sentence"`
	Count int64  `json:"count"`
	Bytes int64  `json:"bytes,omitempty"`
}

// SweepReport is what came of a sweep, or of its preview.
type SweepReport struct {
	Goes  []Sum `json:"goes" nullable:"false" doc:"What was planned to go"`
	Stays []Sum `json:"stays" nullable:"false" doc:"What nothing needs and stays"`
	Taken []Sum `json:"taken" nullable:"false" doc:"What went"`
	Since []Sum `json:"since" nullable:"false" doc:"What stayed, because it changed after the plan"`
	Freed int64 `json:"freed" doc:"Bytes that are free on the disk since"`
	Files int64 `json:"files" doc:"Files that went"`

	Strays  int64 `json:"strays" doc:"Files that no record names"`
	Missing int64 `json:"missing" doc:"Records that have no file"`
	Adopted int64 `json:"adopted" doc:"Those of which a good copy lay elsewhere"`

	Waited        int64   `json:"waited" doc:"Changes of others that waited for the writer"`
	WaitedLongest float64 `json:"waited_longest_ms" doc:"The longest wait in milliseconds"`
	WaitedWhole   float64 `json:"waited_whole_ms" doc:"All waits together in milliseconds"`
	WaitedKind    string  `json:"waited_kind,omitempty" doc:"The kind of change that waited longest, such as push-manifest"`
	PlanSeconds   float64 `json:"plan_seconds"`
	TakeSeconds   float64 `json:"take_seconds"`
}

// ScrubReport is what came of a scrub.
type ScrubReport struct {
	Files      int64        `json:"files" doc:"Files that were read"`
	Bytes      int64        `json:"bytes"`
	Missing    int64        `json:"missing"`
	Short      int64        `json:"short" doc:"Files of another size"`
	Rotten     int64        `json:"rotten" doc:"Files with other bytes"`
	Unreadable int64        `json:"unreadable" doc:"Files that could not be read"`
	Digests    []oci.Digest `json:"digests" nullable:"false" doc:"The first that are hurt"`
	Records    []string     `json:"records,omitempty" doc:"What is damaged in the records, the first findings"`
	Seconds    float64      `json:"seconds"`
}

// SweepItem is one thing of a sweep's report.
type SweepItem struct {
	Kind       string     `json:"kind" doc:"manifest, tag, holding, repository, namespace, blob, stray or leftover"`
	Repository oci.Name   `json:"repository,omitempty" doc:"As it was called then"`
	Name       string     `json:"name,omitempty" doc:"A tag, a namespace, or a file"`
	Digest     oci.Digest `json:"digest,omitempty"`
	Size       int64      `json:"size,omitempty"`
	Why        string     `json:"why" doc:"Why, as a word"`
	Says       string     `json:"says" doc:"Why, as a sentence"`
	Removal    int64      `json:"removal,omitempty" doc:"The removal by which it went"`
	Went       *bool      `json:"went,omitempty" doc:"Whether it went; absent in previews, and while that is open"`
}

// SweepItems is a page of a sweep's report.
type SweepItems struct {
	Items []SweepItem `json:"items" nullable:"false"`
	Next  int64       `json:"next,omitempty" doc:"Pass it as after for the next page; absent on the last"`
}

// Hurt is content whose file is not what it should be.
type Hurt struct {
	ID        int64      `json:"id"`
	Digest    oci.Digest `json:"digest"`
	What      string     `json:"what" enum:"missing,short,rotten,unreadable" doc:"missing: there is no file; short: it has another size; unreadable: it could not be read; rotten: it has other bytes"`
	Size      int64      `json:"size" doc:"What it should have, in bytes"`
	FoundSize int64      `json:"found_size" doc:"What it had, in bytes"`
	FoundAt   time.Time  `json:"found_at"`
	EndedAt   *time.Time `json:"ended_at,omitempty"`
	EndedHow  string     `json:"ended_how,omitempty" enum:"mended,gone"`
}

// HurtList is a page of hurt content, the last found first.
type HurtList struct {
	Hurts []Hurt `json:"hurts" nullable:"false"`
	Next  int64  `json:"next,omitempty" doc:"Pass it as before for the next page; absent on the last"`
}

// HurtImage is an image that cannot be pulled whole.
type HurtImage struct {
	Repository oci.Name   `json:"repository"`
	Digest     oci.Digest `json:"digest"`
	Tags       []oci.Tag  `json:"tags" nullable:"false"`
	Pulls      int64      `json:"pulls"`
	PulledAt   *time.Time `json:"pulled_at,omitempty"`
	// PulledBy is told where pulls are logged.
	PulledBy []string `json:"pulled_by" nullable:"false" doc:"Accounts that pulled it in the last 30 days, where pulls are in the audit log"`
}

// HurtDetail is hurt content with the images that are hurt by it.
type HurtDetail struct {
	Hurt
	Images []HurtImage `json:"images" nullable:"false"`
}

// Link is one name in a chain.
type Link struct {
	Kind   string     `json:"kind" enum:"tag,index,manifest,content"`
	Tag    oci.Tag    `json:"tag,omitempty"`
	Digest oci.Digest `json:"digest,omitempty"`
	As     string     `json:"as,omitempty" doc:"As what the link before names this one: config, layer or child"`
	Sealed bool       `json:"sealed,omitempty"`
	// RemovedBy is where it went.
	RemovedBy *RemovedBy `json:"removed_by,omitempty" doc:"By which removal it went, where it did"`
}

// Holder is a repository that has the content.
type Holder struct {
	Repository oci.Name   `json:"repository"`
	Says       string     `json:"says" doc:"Why it is here, and when it may go, as a sentence"`
	Chains     [][]Link   `json:"chains" nullable:"false" doc:"From a tag, or a manifest that nothing names, down to it"`
	More       bool       `json:"more,omitempty" doc:"Whether there are more chains"`
	GoesAfter  *time.Time `json:"goes_after,omitempty" doc:"About when the repository lets go of it, where nothing keeps it"`
	Seals      []oci.Tag  `json:"seals" nullable:"false" doc:"Tags of these chains that are sealed, by hand or by a rule"`
}

// ContentExplanation tells why content is here, or when it may go.
type ContentExplanation struct {
	Digest    oci.Digest `json:"digest"`
	Size      int64      `json:"size,omitempty"`
	Says      string     `json:"says" doc:"The answer in a sentence"`
	Hurt      string     `json:"hurt,omitempty" enum:"missing,short,rotten,unreadable" doc:"What is wrong with its file"`
	Holders   []Holder   `json:"holders" nullable:"false" doc:"The repositories that have it, of those you may see"`
	More      bool       `json:"more,omitempty" doc:"Whether there are more repositories"`
	GoesAfter *time.Time `json:"goes_after,omitempty" doc:"About when its bytes may go, where nothing holds it"`
	NextSweep *time.Time `json:"next_sweep,omitempty" doc:"When the next sweep runs by itself, about"`
}

// RegistryHealth is how well the registry is.
type RegistryHealth struct {
	DiskFree   int64  `json:"disk_free" doc:"Bytes that are free on the disk"`
	DiskSize   int64  `json:"disk_size"`
	DiskFloor  int64  `json:"disk_floor" doc:"Bytes below which no upload is taken"`
	Files      int64  `json:"files" doc:"Files of content"`
	Bytes      int64  `json:"bytes"`
	Records    int64  `json:"records" doc:"Bytes of the records"`
	Hurt       int64  `json:"hurt" doc:"Files that are not what they should be"`
	Strays     int64  `json:"strays" doc:"Files that no record names, as of the last sweep"`
	StrayBytes int64  `json:"stray_bytes"`
	Grace      string `json:"grace" doc:"How long what was touched stays, though nothing needs it"`
	// ReadSince is how old the oldest reading is.
	ReadWithin string `json:"read_within" doc:"Within which span of service each file was read against its digest"`
	ScrubGoal  string `json:"scrub_goal" doc:"Within which span it is meant to be"`
	ShortSpans bool   `json:"short_spans,omitempty" doc:"Whether spans below an hour count, which is for trying things out"`
	// Damages are of the records.
	Damages    []RecordsDamage `json:"damages,omitempty" doc:"What is damaged in the records; while there is anything, no sweep and no retention deletes"`
	Remedy     string          `json:"remedy,omitempty" doc:"What to do about damaged records"`
	Incomplete bool            `json:"incomplete,omitempty" doc:"Whether some figures could not be read because the records are damaged; they are 0 then"`
}

// RecordsDamage is a part of the records that is not as it was written.
type RecordsDamage struct {
	Table   string    `json:"table,omitempty" doc:"Absent where it is not known"`
	Index   string    `json:"index,omitempty" doc:"The damaged index of the table; absent where it is the table itself"`
	What    string    `json:"what"`
	Says    string    `json:"says" doc:"All that in one sentence"`
	FoundAt time.Time `json:"found_at"`
}

// Sweep asks for a sweep or its preview.
func (c *Client) Sweep(ctx context.Context, how AskSweep) (Asked, error) {
	var asked Asked
	return asked, c.Do(ctx, http.MethodPost, "/api/v1/sweeps", nil, how, &asked)
}

// Scrub asks for a scrub.
func (c *Client) Scrub(ctx context.Context, how AskScrub) (Asked, error) {
	var asked Asked
	return asked, c.Do(ctx, http.MethodPost, "/api/v1/scrubs", nil, how, &asked)
}
