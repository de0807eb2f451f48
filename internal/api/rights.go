package api

import (
	"time"

	"warthesis/internal/oci"
)

// Labels are names with values, given by people.
type Labels map[string]string

// SignIn is a name with its password.
type SignIn struct {
	Account  string `json:"account" minLength:"1" maxLength:"255"`
	Password string `json:"password" minLength:"1" maxLength:"1024"`
}

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
	Unused    bool       `json:"unused" doc:"Whether the role was given more than 90 days ago, and what is highest in it was not used since"`
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

// Scope bounds a token.
type Scope struct {
	Pattern string   `json:"pattern" doc:"A repository's name, where * stands for any text"`
	Actions []string `json:"actions" nullable:"false" doc:"pull, push, delete, manage"`
}

// Token is a token, without its secret.
type Token struct {
	ID        int64      `json:"id"`
	Account   string     `json:"account"`
	Kind      string     `json:"kind" doc:"token, login of a client, or session of the console"`
	Name      string     `json:"name"`
	Scopes    []Scope    `json:"scopes" nullable:"false"`
	CreatedAt time.Time  `json:"created_at"`
	EndsAt    *time.Time `json:"ends_at,omitempty" doc:"Absent for never"`
	Ended     bool       `json:"ended"`
	UsedAt    *time.Time `json:"used_at,omitempty"`
	UsedFrom  string     `json:"used_from,omitempty"`
}

// TokenList is the tokens of an account.
type TokenList struct {
	Tokens []Token `json:"tokens" nullable:"false"`
}

// NewToken is a token to be made.
type NewToken struct {
	Account string  `json:"account,omitempty" maxLength:"255" doc:"Whose; absent for the caller's own"`
	Name    string  `json:"name" minLength:"1" maxLength:"100"`
	Login   bool    `json:"login,omitempty" doc:"A login of a client: all that the account may do, without scopes"`
	Scopes  []Scope `json:"scopes,omitempty"`
	Days    int     `json:"days,omitempty" minimum:"0" maximum:"3650" doc:"How long it is good; 0 is without end. It ends with the login by which it is made at the latest"`
	// Password proves who asks anew.
	Password string `json:"password,omitempty" maxLength:"1024" doc:"That of the account that asks: with it the token may outlast the login by which it is made"`
}

// Proof proves anew who asks.
type Proof struct {
	Password string `json:"password,omitempty" maxLength:"1024" doc:"That of the account that asks: with it the new token may outlast the login by which it is made"`
}

// MadeToken is a new token with its secret, which is told this once.
type MadeToken struct {
	Token
	Secret string `json:"secret"`
}

// ShortToken stands for the login by which it was got, for a short time.
type ShortToken struct {
	Account string    `json:"account"`
	Secret  string    `json:"secret"`
	EndsAt  time.Time `json:"ends_at"`
}

// Account is somebody, or a program, that can log in.
type Account struct {
	Name        string    `json:"name"`
	Kind        string    `json:"kind" enum:"person,machine"`
	Admin       bool      `json:"admin"`
	Description string    `json:"description,omitempty"`
	Groups      []string  `json:"groups" nullable:"false"`
	HasPassword bool      `json:"has_password"`
	Company     string    `json:"company,omitempty" doc:"The issuer of the company's login, where the account comes from there"`
	CreatedAt   time.Time `json:"created_at"`
	Disabled    bool      `json:"disabled"`
}

// AccountList is a page of accounts.
type AccountList struct {
	Accounts []Account `json:"accounts" nullable:"false"`
	Next     string    `json:"next,omitempty"`
}

// NewAccount is an account to be made.
type NewAccount struct {
	Name        string `json:"name" minLength:"1" maxLength:"64"`
	Kind        string `json:"kind,omitempty" enum:"person,machine" default:"person"`
	Admin       bool   `json:"admin,omitempty"`
	Description string `json:"description,omitempty" maxLength:"500"`
	Password    string `json:"password,omitempty" maxLength:"1024" doc:"Absent for an account that logs in by tokens or the company's login alone"`
}

// AccountChange is what is to be changed of an account.
type AccountChange struct {
	Description *string `json:"description,omitempty" maxLength:"500"`
	Admin       *bool   `json:"admin,omitempty"`
	Disabled    *bool   `json:"disabled,omitempty"`
	OnOwn       bool    `json:"on_own,omitempty" doc:"Confirms that the account that asks means to disable itself, or to take registry admin from itself"`
}

// NewPassword is another password.
type NewPassword struct {
	Current  string `json:"current,omitempty" maxLength:"1024" doc:"The one that the caller has; needed for the own account"`
	Password string `json:"password" minLength:"1" maxLength:"1024"`
}

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
	Repositories   int64      `json:"repositories"`
	Size           int64      `json:"size" doc:"Bytes that its repositories hold, shared content counted in each"`
	CreatedAt      time.Time  `json:"created_at"`
	PushedAt       *time.Time `json:"pushed_at,omitempty"`
	Role           string     `json:"role,omitempty" doc:"The caller's role there"`
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
	Rename         *string `json:"rename,omitempty" maxLength:"255" doc:"Another name"`
}

// NewPlace is a namespace or a repository to be made.
type NewPlace struct {
	Name string `json:"name" minLength:"1" maxLength:"255"`
	PlaceChange
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
}

// NewTeam is a team to be made: a namespace, a group and the roles between them.
type NewTeam struct {
	Name        string   `json:"name" minLength:"1" maxLength:"64"`
	Description string   `json:"description,omitempty" maxLength:"500"`
	Owners      []string `json:"owners,omitempty" maxItems:"100" doc:"Accounts that own the namespace"`
	Writers     []string `json:"writers,omitempty" maxItems:"1000" doc:"Accounts that join the group"`
}

// Verdict says whether the caller may do something.
type Verdict struct {
	Allowed bool   `json:"allowed"`
	Reason  string `json:"reason,omitempty" doc:"Which right is missing, and who can give it"`
}

// Settings are those of the registry that are changed while it runs.
type Settings struct {
	AccountsMakeNamespaces bool `json:"accounts_make_namespaces" doc:"Whether every person may make namespaces, and not registry admins alone"`
	PushMakesNamespaces    bool `json:"push_makes_namespaces" doc:"Whether a push by somebody who may make a namespace makes it"`
}

// Removed is a namespace or a repository that was removed and can be restored.
type Removed struct {
	Repository bool      `json:"repository" doc:"Whether it is a repository, and not a namespace"`
	Name       string    `json:"name"`
	RemovedAt  time.Time `json:"removed_at"`
	RemovedBy  string    `json:"removed_by,omitempty"`
}

// RemovedList is what was removed, the last first.
type RemovedList struct {
	Removed []Removed `json:"removed" nullable:"false"`
}

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

// Device is a login of a terminal that was begun.
type Device struct {
	Handle   string `json:"handle"`
	Interval int    `json:"interval" doc:"Seconds to wait between two questions for the outcome"`
	UserCode string `json:"user_code"`
	Address  string `json:"address" doc:"Where the code is to be entered"`
	Complete string `json:"complete,omitempty" doc:"The address with the code in it"`
}

// DeviceOutcome is what became of a login of a terminal.
type DeviceOutcome struct {
	Done  bool       `json:"done" doc:"Whether somebody confirmed it"`
	Token *MadeToken `json:"token,omitempty"`
}

// Identity is what an issuer says of a program, signed.
type Identity struct {
	Identity string `json:"identity" minLength:"1" maxLength:"16384" doc:"A JWT of the issuer"`
}

// IdentityRule lets whoever comes with an identity of an issuer be a machine account.
type IdentityRule struct {
	Name     string `json:"name" minLength:"1" maxLength:"64"`
	Issuer   string `json:"issuer" minLength:"1" maxLength:"255" doc:"Address of the issuer"`
	Audience string `json:"audience" minLength:"1" maxLength:"255"`
	Subject  string `json:"subject" minLength:"1" maxLength:"255" doc:"Pattern of the subject, where * stands for any text"`
	Account  string `json:"account" minLength:"1" maxLength:"64" doc:"The machine account"`
}

// IdentityRuleList is all identity rules.
type IdentityRuleList struct {
	Rules []IdentityRule `json:"rules" nullable:"false"`
}
