package api

import (
	"time"

	"warthesis/internal/oci"
)

// Settings are those of the registry that are changed while it runs.
type Settings struct {
	AccountsMakeNamespaces bool   `json:"accounts_make_namespaces" doc:"Whether every person may make namespaces, and not registry admins alone"`
	PushMakesNamespaces    bool   `json:"push_makes_namespaces" doc:"Whether a push by somebody who may make a namespace makes it"`
	RestoreWindow          string `json:"restore_window,omitempty" maxLength:"16" doc:"For how long removals can be undone, as in 14d; without it, it stays as it is"`
}

// Service is what a registry says about itself.
type Service struct {
	Version string `json:"version" doc:"Version of the program"`
	Address string `json:"address" doc:"The registry's address as it stands in references, host and port"`
	TLS     bool   `json:"tls" doc:"Whether the address is served over TLS"`
	Company string `json:"company,omitempty" doc:"Name of the company's login, where there is one"`
	Trial   bool   `json:"trial,omitempty" doc:"Whether it is a trial, in which anybody on its machine may do everything without a login"`
}

// Change is something that happened, as it is told to open consoles.
type Change struct {
	Kind       string     `json:"kind" doc:"manifest-pushed, manifest-deleted, tag-moved, tag-added, tag-moved-by-hand, tag-deleted or blob-deleted"`
	Repository oci.Name   `json:"repository"`
	Tag        oci.Tag    `json:"tag,omitempty"`
	Digest     oci.Digest `json:"digest,omitempty"`
	At         time.Time  `json:"at"`
}

// StillThere is sent on a quiet stream of changes, so that both ends see a broken line.
type StillThere struct {
	At time.Time `json:"at"`
}
