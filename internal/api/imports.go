package api

import (
	"time"

	"warthesis/internal/oci"
)

// ImportWhat is what is brought in: a repository of a peer under a name here, or all that a
// pattern matches.
type ImportWhat struct {
	From    oci.Name `json:"from,omitempty" maxLength:"255" doc:"A repository of the peer, below its prefix"`
	To      oci.Name `json:"to,omitempty" maxLength:"255" doc:"What it is called here; absent for the same"`
	Pattern string   `json:"pattern,omitempty" maxLength:"300" doc:"In place of from and to: the repositories that are meant, as in signals/*"`
}

// Import is what is brought in from a peer, with all its tags, once or to be repeated.
type Import struct {
	Name        string        `json:"name"`
	Peer        string        `json:"peer"`
	What        []ImportWhat  `json:"what" nullable:"false"`
	Prefix      oci.Name      `json:"prefix,omitempty" doc:"What stands here before the names of what a pattern matches"`
	NoReferrers bool          `json:"no_referrers,omitempty" doc:"What refers to the images is left out"`
	Overwrites  bool          `json:"overwrites,omitempty" doc:"Tags are moved too that somebody moved here"`
	When        string        `json:"when,omitempty" doc:"When it runs by itself: an interval, or a cron expression; absent for by hand"`
	MadeAt      time.Time     `json:"made_at"`
	MadeBy      string        `json:"made_by"`
	Run         int64         `json:"run,omitempty" doc:"The last run; absent where none is known"`
	State       string        `json:"state,omitempty" doc:"How the last run stands: waiting, going, stopped, done or failed"`
	Step        string        `json:"step,omitempty" doc:"What the run does"`
	Done        int64         `json:"done,omitempty" doc:"How many repositories the step is through with"`
	Total       int64         `json:"total,omitempty"`
	Says        string        `json:"says,omitempty" doc:"What came of the last run, or why it failed"`
	EndedAt     *time.Time    `json:"ended_at,omitempty"`
	Report      *ImportReport `json:"report,omitempty" doc:"What came of the last run that ended; told where one is asked for"`
}

// ImportList is all imports.
type ImportList struct {
	Imports []Import `json:"imports" nullable:"false"`
}

// MakeImport makes an import, and lets it run.
type MakeImport struct {
	Name        string       `json:"name" maxLength:"64"`
	Peer        string       `json:"peer" maxLength:"64"`
	What        []ImportWhat `json:"what" minItems:"1" maxItems:"10000" nullable:"false"`
	Prefix      oci.Name     `json:"prefix,omitempty" maxLength:"200"`
	NoReferrers bool         `json:"no_referrers,omitempty"`
	Overwrites  bool         `json:"overwrites,omitempty"`
	When        string       `json:"when,omitempty" maxLength:"100"`
	Preview     bool         `json:"preview,omitempty" doc:"The first run only compares, and brings nothing"`
}

// RunImport lets an import run now.
type RunImport struct {
	Preview bool `json:"preview,omitempty" doc:"Only compare, and bring nothing"`
}

// ImportReport is what came of a run of an import.
type ImportReport struct {
	Import        string               `json:"import"`
	Peer          string               `json:"peer"`
	Preview       bool                 `json:"preview,omitempty" doc:"It only compared"`
	Began         time.Time            `json:"began"`
	Ended         time.Time            `json:"ended"`
	Equal         bool                 `json:"equal" doc:"Both sides had the same tags with the same digests"`
	ComparedFrom  time.Time            `json:"compared_from,omitzero" doc:"When it was begun to compare both sides, after all was brought"`
	ComparedUntil time.Time            `json:"compared_until,omitzero"`
	Says          string               `json:"says"`
	Totals        ImportTotals         `json:"totals"`
	Repositories  []ImportedRepository `json:"repositories" nullable:"false"`
	Namespaces    []ImportNamespace    `json:"namespaces" nullable:"false"`
	Differs       []ImportDiffers      `json:"differs" nullable:"false" doc:"The first two thousand tags that are not equal"`
}

// ImportCounts are tags, and the bytes of what was brought of them.
type ImportCounts struct {
	Tags    int64 `json:"tags"`
	Equal   int64 `json:"equal"`
	Behind  int64 `json:"behind" doc:"They have another digest here"`
	Lacks   int64 `json:"lacks" doc:"They are not here"`
	Ours    int64 `json:"ours" doc:"They were moved here by somebody, and stay"`
	Extra   int64 `json:"extra" doc:"They are here alone"`
	Failed  int64 `json:"failed"`
	Brought int64 `json:"brought"`
	Bytes   int64 `json:"bytes"`
	Sent    int64 `json:"sent"`
}

// ImportTotals are its sums.
type ImportTotals struct {
	Repositories int `json:"repositories"`
	Unread       int `json:"unread" doc:"Repositories that could not be read or written"`
	ImportCounts
}

// ImportedRepository is how one repository stands.
type ImportedRepository struct {
	From oci.Name `json:"from"`
	To   oci.Name `json:"to"`
	ImportCounts
	Why string `json:"why,omitempty"`
}

// ImportNamespace is a namespace that an import brings something into.
type ImportNamespace struct {
	Name         string `json:"name"`
	There        bool   `json:"there" doc:"It is there; else the import makes it"`
	Repositories int    `json:"repositories"`
	Description  string `json:"description,omitempty" doc:"What may be said of it, by what its images say of themselves"`
}

// ImportDiffers is a tag that is not equal on both sides.
type ImportDiffers struct {
	Repository oci.Name   `json:"repository"`
	Tag        oci.Tag    `json:"tag"`
	State      string     `json:"state" doc:"behind, lacks, moved here, here alone, or failed"`
	There      oci.Digest `json:"there,omitempty"`
	Here       oci.Digest `json:"here,omitempty"`
	Why        string     `json:"why,omitempty"`
}
