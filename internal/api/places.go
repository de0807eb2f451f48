package api

import (
	"time"

	"warthesis/internal/oci"
)

// Labels are names with values, given by people.
type Labels map[string]string

// Namespace is a namespace with its counts.
type Namespace struct {
	Name           string     `json:"name"`
	Description    string     `json:"description,omitempty"`
	Labels         Labels     `json:"labels" nullable:"false"`
	Open           bool       `json:"open" doc:"Whether anybody may pull"`
	PushMakes      string     `json:"push_makes" doc:"The least role whose pushes make repositories, or nobody"`
	NewDescription string     `json:"new_description,omitempty" doc:"Given to repositories that a push makes"`
	NewLabels      Labels     `json:"new_labels" nullable:"false"`
	LogPulls       bool       `json:"log_pulls" doc:"Whether each pull is written into the audit log"`
	RestoreWindow  string     `json:"restore_window,omitempty" doc:"For how long removals can be undone, as in 14d; absent for as long as the registry has it, which is also the most"`
	Repositories   int64      `json:"repositories"`
	Size           int64      `json:"size" doc:"Bytes that its repositories hold, shared content counted in each"`
	CreatedAt      time.Time  `json:"created_at"`
	PushedAt       *time.Time `json:"pushed_at,omitempty"`
	Role           string     `json:"role,omitempty" doc:"The caller's role there"`
	Used           int64      `json:"used,omitempty" doc:"Bytes that count for its quota, told to who may push there"`
	Quota          int64      `json:"quota,omitempty" doc:"Bytes that it may hold, told to who may push there; absent for no bound"`
}

// NamespaceList is a page of namespaces.
type NamespaceList struct {
	Namespaces []Namespace `json:"namespaces" nullable:"false"`
	Next       string      `json:"next,omitempty"`
}

// PlaceChange is what is to be changed of a namespace or a repository.
type PlaceChange struct {
	Description    *string `json:"description,omitempty" maxLength:"2000"`
	Labels         *Labels `json:"labels,omitempty"`
	Open           *bool   `json:"open,omitempty" doc:"Of a namespace: whether anybody may pull"`
	Visibility     *string `json:"visibility,omitempty" enum:"open,closed,inherited" doc:"Of a repository"`
	PushMakes      *string `json:"push_makes,omitempty" enum:"writer,curator,owner,nobody"`
	NewDescription *string `json:"new_description,omitempty" maxLength:"2000"`
	NewLabels      *Labels `json:"new_labels,omitempty"`
	LogPulls       *bool   `json:"log_pulls,omitempty"`
	RestoreWindow  *string `json:"restore_window,omitempty" maxLength:"16" doc:"Of a namespace: for how long removals can be undone, as in 14d; empty for as long as the registry has it, which is also the most"`
	Rename         *string `json:"rename,omitempty" maxLength:"255" doc:"Another name"`
	OverSeals      string  `json:"over_seals,omitempty" maxLength:"500" doc:"Of a rename: why, although tags in it are sealed; for registry admins"`
}

// NewPlace is a namespace or a repository to be made.
type NewPlace struct {
	Name string `json:"name" minLength:"1" maxLength:"255"`
	PlaceChange
}

// Removed is a namespace or a repository that was removed and can be restored.
type Removed struct {
	Repository bool      `json:"repository" doc:"Whether it is a repository, and not a namespace"`
	Name       string    `json:"name"`
	RemovedAt  time.Time `json:"removed_at"`
	RemovedBy  string    `json:"removed_by,omitempty"`
	Removal    int64     `json:"removal" doc:"The removal, by which it can be undone"`
}

// RemovedList is what was removed, the last first.
type RemovedList struct {
	Removed []Removed `json:"removed" nullable:"false"`
}

// Repository is a repository with its counts.
type Repository struct {
	Name        oci.Name   `json:"name" doc:"Full name, the namespace first"`
	Namespace   string     `json:"namespace" doc:"First component of the name"`
	Description string     `json:"description,omitempty"`
	Labels      Labels     `json:"labels" nullable:"false"`
	Visibility  string     `json:"visibility" doc:"open, closed, or inherited: as the namespace has it"`
	Open        bool       `json:"open" doc:"Whether anybody may pull"`
	Role        string     `json:"role,omitempty" doc:"The caller's role there"`
	Tags        int64      `json:"tags" doc:"Number of tags"`
	TagQuota    int64      `json:"tag_quota,omitempty" doc:"How many tags it may have, told to who may push there; absent for no bound"`
	Manifests   int64      `json:"manifests" doc:"Number of manifests and indexes"`
	Size        int64      `json:"size" doc:"Bytes of the distinct content that the repository holds"`
	CreatedAt   time.Time  `json:"created_at"`
	PushedAt    time.Time  `json:"pushed_at" doc:"When a manifest last came"`
	PulledAt    *time.Time `json:"pulled_at,omitempty" doc:"When a manifest was last pulled; absent for never"`
	Pulls       int64      `json:"pulls" doc:"Pulls of manifests so far"`
}

// RepositoryList is a page of repositories.
type RepositoryList struct {
	Repositories []Repository `json:"repositories" nullable:"false"`
	Next         string       `json:"next,omitempty" doc:"Pass it as after for the next page; absent on the last"`
}
