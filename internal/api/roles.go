package api

import (
	"time"

	"warthesis/internal/oci"
)

// Role is a role that somebody has in a place.
type Role struct {
	Place     string     `json:"place" doc:"A repository, a namespace or, empty, the registry"`
	Role      string     `json:"role" enum:"reader,writer,curator,owner"`
	Account   string     `json:"account,omitempty" doc:"Who has it, where that is an account"`
	Group     string     `json:"group,omitempty" doc:"Who has it, where that is a group"`
	Kind      string     `json:"kind,omitempty" doc:"Of an account: person or machine"`
	GrantedAt time.Time  `json:"granted_at"`
	GrantedBy string     `json:"granted_by,omitempty"`
	UsedAt    *time.Time `json:"used_at,omitempty" doc:"When the highest thing that the role allows was last done by it; absent for never"`
	Admin     bool       `json:"admin,omitempty" doc:"Whether it is no role but that of a registry admin, who may do everything everywhere"`
	Unused    bool       `json:"unused" doc:"Whether the role was given more than 90 days ago, and what is highest in it was not used since"`
}

// RoleList is who has which roles.
type RoleList struct {
	Roles []Role `json:"roles" nullable:"false"`
}

// NewRole gives a role in a place.
type NewRole struct {
	Place   string `json:"place" maxLength:"255" doc:"A repository, a namespace or, empty, the registry"`
	Account string `json:"account,omitempty" maxLength:"64"`
	Group   string `json:"group,omitempty" maxLength:"64"`
	Role    string `json:"role" enum:"reader,writer,curator,owner"`
	// InsteadOf narrows a role in one step.
	InsteadOf *string `json:"instead_of,omitempty" maxLength:"255" doc:"The wider place around this one whose role goes with it; empty for the registry"`
}

// RoleUse is something that was done by a role.
type RoleUse struct {
	Repository oci.Name  `json:"repository"`
	Action     string    `json:"action" doc:"pull, push, delete or manage"`
	Times      int64     `json:"times" doc:"Lines of the audit log; one push may write several"`
	LastAt     time.Time `json:"last_at"`
}

// RoleUses is what was done by a role that a narrower one would not have allowed.
type RoleUses struct {
	Days       int       `json:"days" doc:"How far back was looked"`
	Refused    []RoleUse `json:"refused" nullable:"false"`
	PullsKnown bool      `json:"pulls_known" doc:"Whether pulls are in the audit log of all that the role reaches"`
}

// Verdict says whether the caller may do something.
type Verdict struct {
	Allowed bool   `json:"allowed"`
	Reason  string `json:"reason,omitempty" doc:"Which right is missing, and who can give it"`
}
