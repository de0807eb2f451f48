package api

import "time"

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

// AccountWithRoles is an account with what it may do.
type AccountWithRoles struct {
	Account
	Roles []Role  `json:"roles" nullable:"false" doc:"The roles that it has itself or by a group, in places that the caller may see"`
	May   []Scope `json:"may" nullable:"false" doc:"What the account may do, by pattern, as far as the caller may see"`
}
