package api

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
