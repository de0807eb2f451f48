package api

import (
	"time"

	"warthesis/internal/oci"
)

// ReplicationRule says what is copied to a peer or from it.
type ReplicationRule struct {
	Name          string   `json:"name,omitempty" maxLength:"64"`
	Copy          []string `json:"copy" nullable:"false" minItems:"1" maxItems:"100" doc:"Patterns of what is copied, by the names where it comes from"`
	Except        []string `json:"except,omitempty" maxItems:"100" doc:"Patterns of what is not"`
	To            string   `json:"to,omitempty" maxLength:"64" doc:"The peer to which it is copied"`
	From          string   `json:"from,omitempty" maxLength:"64" doc:"The peer from which it is copied; one of to and from is given"`
	As            string   `json:"as,omitempty" maxLength:"384" doc:"How it is called on the other side, with {namespace}, {repository} (what stands behind the namespace) and behind a colon {tag}; absent for the same name"`
	When          string   `json:"when,omitempty" maxLength:"100" doc:"pushed, by hand, an interval such as 6h, or a cron expression in UTC; absent for pushed, or by hand where it is copied from a peer"`
	Hours         string   `json:"hours,omitempty" maxLength:"11" doc:"The part of the day in which it is copied, in UTC, as in 22:00-05:00; absent for all of it"`
	Rate          string   `json:"rate,omitempty" maxLength:"20" doc:"How much is copied in a second at most, as in 4MiB; absent for as much as goes"`
	ArtifactTypes []string `json:"artifact_types,omitempty" maxItems:"100" doc:"The artifact types that are copied, image for container images; absent for all"`
	Referrers     *bool    `json:"referrers,omitempty" doc:"Whether signatures and all else that refers to an image travel with it; absent for yes"`
	Removals      string   `json:"removals,omitempty" enum:"keep,remove" doc:"What happens on the other side to what is removed: keep leaves it; remove takes tags that this rule put there and nobody moved since, once the removal cannot be undone any more"`
	Conflicts     string   `json:"conflicts,omitempty" enum:"report,ours,theirs" doc:"What happens where both sides moved a tag: report leaves both and tells; ours lets this registry win, theirs the peer"`
	Because       string   `json:"because,omitempty" maxLength:"500"`
}

// GoingImage is an image that travels now.
type GoingImage struct {
	Repository oci.Name   `json:"repository"`
	Tag        oci.Tag    `json:"tag,omitempty" doc:"Absent of what refers to another manifest"`
	Digest     oci.Digest `json:"digest"`
	Target     string     `json:"target" doc:"What it is called where it goes"`
	Bytes      int64      `json:"bytes" doc:"What its blobs have"`
	Moved      int64      `json:"moved" doc:"What of that is through: sent, or there already"`
	BeganAt    time.Time  `json:"began_at"`
}

// Replication is a replication rule, and how it stands with it.
type Replication struct {
	ReplicationRule
	Paused  bool  `json:"paused"`
	Version int64 `json:"version" doc:"Pass it with a change: it is refused where somebody else changed the rule meanwhile"`
	// State is in one word how it stands.
	State       string       `json:"state" enum:"well,going,behind,conflicts,asks,failing,closed,paused" doc:"In one word how it stands with the rule: the worst of what is true"`
	Lag         int64        `json:"lag" doc:"The age of the oldest thing that is due, in seconds of service"`
	Due         int64        `json:"due" doc:"Tags and digests that are to travel"`
	Places      int64        `json:"places" doc:"Whole places that are to be compared first"`
	Waits       int64        `json:"waits" doc:"Removals that travel when they cannot be undone any more"`
	Conflicting int64        `json:"conflicting" doc:"Tags that both sides moved"`
	Asks        int64        `json:"asks" doc:"Removals that would take more than a fifth of a repository, and wait for a word"`
	Failing     int64        `json:"failing" doc:"What of that is due failed when it was tried last"`
	Copies      int64        `json:"copies" doc:"Tags of which both sides have the same, as far as is known"`
	BytesLeft   int64        `json:"bytes_left" doc:"What is due has, at most: what is there already is not taken off"`
	BytesRate   int64        `json:"bytes_rate" doc:"Bytes that go in a second now"`
	SecondsLeft *int64       `json:"seconds_left,omitempty" doc:"How long that takes at this rate; absent where that is not known"`
	Error       string       `json:"error,omitempty" doc:"Why it does not go on, and what to do"`
	AgainIn     *int64       `json:"again_in,omitempty" doc:"In how many seconds the peer is asked again; absent where it is not left alone"`
	NextIn      *int64       `json:"next_in,omitempty" doc:"In how many seconds a rule that runs at times does again"`
	Going       []GoingImage `json:"going" nullable:"false"`
	RanAt       *time.Time   `json:"ran_at,omitempty" doc:"When what was due was last let go, of rules that run at times or by hand"`
	MadeAt      *time.Time   `json:"made_at,omitempty"`
	MadeBy      string       `json:"made_by,omitempty"`
	ChangedAt   *time.Time   `json:"changed_at,omitempty"`
	ChangedBy   string       `json:"changed_by,omitempty"`
}

// ReplicationList is all replication rules.
type ReplicationList struct {
	Replications []Replication `json:"replications" nullable:"false"`
}

// ChangeReplication is what a rule says from now on, in place of what it said.
type ChangeReplication struct {
	ReplicationRule
	Version int64 `json:"version,omitempty" doc:"The version that was read; absent for whatever it is now"`
}

// RunReplication lets a rule act now.
type RunReplication struct {
	Removals bool   `json:"removals,omitempty" doc:"Let removals go that wait for a word"`
	Settle   string `json:"settle,omitempty" maxLength:"400" doc:"A tag in conflict, as REPOSITORY:TAG: the other side gets what the rule copies, whatever it has"`
}

// PauseReplication stops a rule from acting, or lets it act again.
type PauseReplication struct {
	Paused bool `json:"paused"`
}

// DueItem is something that has to travel.
type DueItem struct {
	ID         int64      `json:"id"`
	Repository oci.Name   `json:"repository,omitempty" doc:"Absent for all that the rule means"`
	Tag        oci.Tag    `json:"tag,omitempty"`
	Digest     oci.Digest `json:"digest,omitempty" doc:"Of what refers to another manifest"`
	State      string     `json:"state" enum:"due,waits,conflict,asks"`
	Since      *time.Time `json:"since,omitempty"`
	Tries      int        `json:"tries" doc:"How often it failed"`
	Error      string     `json:"error,omitempty" doc:"Why it did not travel, and what to do"`
	AgainIn    *int64     `json:"again_in,omitempty" doc:"In how many seconds it is tried again"`
	Here       oci.Digest `json:"here,omitempty" doc:"What this registry has, of a conflict"`
	There      oci.Digest `json:"there,omitempty" doc:"What the peer has"`
}

// DueList is a page of what is due, the oldest first.
type DueList struct {
	Items []DueItem `json:"items" nullable:"false"`
	Next  int64     `json:"next,omitempty" doc:"Pass it as after for the next page; absent on the last"`
}

// AskDrift asks for a comparison of both sides.
type AskDrift struct {
	Right bool `json:"right,omitempty" doc:"Put right what is found: what is missing or different is copied, whoever moved it; what is extra goes only where the rule put it and removes"`
}

// DriftItem is a tag about which both sides differ.
type DriftItem struct {
	Repository oci.Name   `json:"repository"`
	Tag        oci.Tag    `json:"tag"`
	Target     string     `json:"target" doc:"What the tag is called on the side that it is copied to"`
	Kind       string     `json:"kind" enum:"missing,different,extra" doc:"Missing, different or extra where it is copied to"`
	Here       oci.Digest `json:"here,omitempty" doc:"What this registry has"`
	There      oci.Digest `json:"there,omitempty" doc:"What the peer has"`
}

// DriftReport is the last comparison of both sides of a rule.
type DriftReport struct {
	Run       int64       `json:"run,omitempty" doc:"The run that compares; absent where none did yet"`
	State     string      `json:"state,omitempty" doc:"waiting, going, stopped, done or failed"`
	Compared  int64       `json:"compared" doc:"Tags that were compared"`
	Missing   int64       `json:"missing"`
	Different int64       `json:"different"`
	Extra     int64       `json:"extra"`
	Says      string      `json:"says,omitempty"`
	Error     string      `json:"error,omitempty"`
	EndedAt   *time.Time  `json:"ended_at,omitempty"`
	Items     []DriftItem `json:"items" nullable:"false" doc:"A page of what differs; the first hundred thousand are kept"`
	Next      int64       `json:"next,omitempty" doc:"Pass it as after for the next page; absent on the last"`
}

// FlowSample is how a rule fared at a moment.
type FlowSample struct {
	At     time.Time `json:"at"`
	Lag    int64     `json:"lag" doc:"In seconds of service"`
	Due    int64     `json:"due"`
	Bytes  int64     `json:"bytes" doc:"What traveled since the sample before"`
	Images int64     `json:"images"`
}

// FlowSamples is how a rule fared, the oldest first.
type FlowSamples struct {
	Samples []FlowSample `json:"samples" nullable:"false"`
}

// ReplicationDocument is replication rules as YAML.
type ReplicationDocument struct {
	Text string `json:"text" maxLength:"65536"`
}

// SetReplications makes the rules of a document those that there are.
type SetReplications struct {
	ReplicationDocument
	Try bool `json:"try,omitempty" doc:"Only tell what would change"`
}

// ReplicationsSet is what a document changes.
type ReplicationsSet struct {
	Made    []string `json:"made" nullable:"false"`
	Changed []string `json:"changed" nullable:"false"`
	Removed []string `json:"removed" nullable:"false"`
	Same    []string `json:"same" nullable:"false"`
}
