package api

import "time"

// SignIn is a name with its password.
type SignIn struct {
	Account  string `json:"account" minLength:"1" maxLength:"255"`
	Password string `json:"password" minLength:"1" maxLength:"1024"`
}

// Me is who asks.
type Me struct {
	Account string     `json:"account,omitempty" doc:"Absent where nobody is logged in"`
	Kind    string     `json:"kind,omitempty"`
	Admin   bool       `json:"admin" doc:"Whether this login administers the registry"`
	Groups  []string   `json:"groups" nullable:"false"`
	Token   string     `json:"token,omitempty" doc:"The token by which the account came"`
	Scopes  []Scope    `json:"scopes,omitempty" doc:"What bounds the token; absent where nothing does"`
	EndsAt  *time.Time `json:"ends_at,omitempty" doc:"When this login ends"`
	Roles   []Role     `json:"roles" nullable:"false" doc:"The roles of the account, where nothing bounds this login"`
	May     []Scope    `json:"may" nullable:"false" doc:"What this login may do: what the account's roles and the login's own bounds both allow"`
	// MakesNamespaces and the like let the console offer what is allowed alone.
	MakesNamespaces bool `json:"makes_namespaces"`
	ListsAccounts   bool `json:"lists_accounts"`
	ReadsAudit      bool `json:"reads_audit"`
	HasPassword     bool `json:"has_password"`
}
