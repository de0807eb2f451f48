package api

import "time"

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
