package api

import (
	"encoding/json"
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
	Name        string          `json:"name"`
	Peer        string          `json:"peer"`
	What        []ImportWhat    `json:"what" nullable:"false"`
	Prefix      oci.Name        `json:"prefix,omitempty" doc:"What stands here before the names of what a pattern matches"`
	NoReferrers bool            `json:"no_referrers,omitempty" doc:"What refers to the images is left out"`
	Overwrites  bool            `json:"overwrites,omitempty" doc:"Tags are moved too that somebody moved here"`
	When        string          `json:"when,omitempty" doc:"When it runs by itself: an interval, or a cron expression; absent for by hand"`
	MadeAt      time.Time       `json:"made_at"`
	MadeBy      string          `json:"made_by"`
	Run         int64           `json:"run,omitempty" doc:"The last run; absent where none is known"`
	State       string          `json:"state,omitempty" doc:"How the last run stands: waiting, going, stopped, done or failed"`
	Step        string          `json:"step,omitempty" doc:"What the run does"`
	Done        int64           `json:"done,omitempty" doc:"How many repositories the step is through with"`
	Total       int64           `json:"total,omitempty"`
	Says        string          `json:"says,omitempty" doc:"What came of the last run, or why it failed"`
	EndedAt     *time.Time      `json:"ended_at,omitempty"`
	Report      json.RawMessage `json:"report,omitempty" doc:"What came of the last run that ended; told where one is asked for"`
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
