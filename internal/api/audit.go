package api

import (
	"time"

	"warthesis/internal/oci"
)

// Line is a line of the audit log.
type Line struct {
	ID         int64      `json:"id"`
	At         time.Time  `json:"at"`
	Kind       string     `json:"kind"`
	Verdict    string     `json:"verdict" doc:"done or refused"`
	Account    string     `json:"account,omitempty"`
	Token      string     `json:"token,omitempty"`
	Address    string     `json:"address,omitempty"`
	Request    string     `json:"request,omitempty"`
	Repository oci.Name   `json:"repository,omitempty"`
	Tag        oci.Tag    `json:"tag,omitempty"`
	Digest     oci.Digest `json:"digest,omitempty"`
	Subject    string     `json:"subject,omitempty" doc:"On what, where that is no repository"`
	Detail     string     `json:"detail,omitempty"`
}

// LineList is a page of the audit log, the newest first.
type LineList struct {
	Lines []Line `json:"lines" nullable:"false"`
	Next  int64  `json:"next,omitempty" doc:"Pass it as before for the next page; absent on the last"`
}
