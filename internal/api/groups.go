package api

// Group is accounts that get roles together.
type Group struct {
	Name        string   `json:"name"`
	Description string   `json:"description,omitempty"`
	Claim       string   `json:"claim,omitempty" doc:"Its name at the company's login"`
	Members     []string `json:"members" nullable:"false"`
}

// GroupList is all groups.
type GroupList struct {
	Groups []Group `json:"groups" nullable:"false"`
}

// NewGroup is a group to be made.
type NewGroup struct {
	Name        string `json:"name" minLength:"1" maxLength:"64"`
	Description string `json:"description,omitempty" maxLength:"500"`
	Claim       string `json:"claim,omitempty" maxLength:"255"`
}

// GroupChange is what is to be changed of a group.
type GroupChange struct {
	Description *string `json:"description,omitempty" maxLength:"500"`
	Claim       *string `json:"claim,omitempty" maxLength:"255"`
}

// NewTeam is a team to be made: a namespace, a group and the roles between them.
type NewTeam struct {
	Name        string   `json:"name" minLength:"1" maxLength:"64"`
	Description string   `json:"description,omitempty" maxLength:"500"`
	Owners      []string `json:"owners,omitempty" maxItems:"100" doc:"Accounts that own the namespace"`
	Writers     []string `json:"writers,omitempty" maxItems:"1000" doc:"Accounts that join the group"`
}

// GroupWithRoles is a group with the roles that it gives.
type GroupWithRoles struct {
	Group
	Roles []Role `json:"roles" nullable:"false" doc:"The roles that it gives, in places that the caller may see"`
}
