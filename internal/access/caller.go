package access

import (
	"context"
	"crypto/sha256"
	"fmt"
	"strconv"
	"time"

	"warthesis/internal/oci"
	"warthesis/internal/record"
)

// Caller is who asks: an account with the credential by which it came, or nobody.
//
// Whatever is made by a credential is bounded by it: by its scopes, by its end, and
// by its life. The one exception is what proved who asks anew: the password itself,
// or the word of the company's login.
type Caller struct {
	// Account has the ID 0 for nobody.
	Account record.Account
	// Token is the token by which the account came, perhaps through a bearer token
	// that was got for it; its ID is 0 for a password and for an identity.
	Token record.Token
	// Rule is the identity rule by which it came; its ID is 0 for none.
	Rule record.IdentityRule
	// Limited tells that the credential's scopes bound what may be done.
	Limited bool
	// Address is the network address, and Request the request's ID.
	Address string
	Request string

	// asked is what a bearer token was asked for and given, by repository; nil
	// where the credential as a whole came.
	asked map[string][]Action
	// signed tells that not the credential itself came, but a bearer or a short token
	// that was got for it.
	signed bool
	// proved tells that the password itself came with the request, or that the
	// company's login has just said who it is.
	proved bool
	// ends is when the credential ends; zero for never.
	ends time.Time
}

// Nobody reports whether the caller has not logged in.
func (c Caller) Nobody() bool { return c.Account.ID == 0 }

// Event starts a line of the audit log.
func (c Caller) Event(kind record.EventKind) record.Event {
	return record.Event{Kind: kind, Account: c.Account.Name, AccountID: c.Account.ID, Token: c.TokenName(), Address: c.Address, Request: c.Request}
}

// Actor returns the caller as the logs have them.
func (c Caller) Actor() record.Actor {
	return record.Actor{Account: c.Account.ID, Token: c.TokenName()}
}

// TokenName names the token or the identity rule by which the account came, "" for
// a password.
func (c Caller) TokenName() string {
	if c.Rule.ID != 0 {
		return c.Rule.Name
	}
	return c.Token.Name
}

// Ends returns when the credential ends; zero for never.
func (c Caller) Ends() time.Time { return c.ends }

// Bounded reports whether the credential may less than its account.
func (c Caller) Bounded() bool { return c.Limited || c.asked != nil }

// Until returns a channel that tells when the credential of a caller ends; nil where
// it does not.
func (a *Access) Until(c Caller) <-chan time.Time {
	if c.ends.IsZero() {
		return nil
	}
	return time.After(c.ends.Sub(a.clock.Now()))
}

// Who names the caller in a sentence.
func (c Caller) Who() string {
	if c.Nobody() {
		return "nobody is logged in, and nobody"
	}
	return c.Account.Name
}

// As returns a caller for an account without its credentials: for what this program
// itself does in the account's place.
func (a *Access) As(ctx context.Context, name string) (Caller, error) {
	account, err := a.account(name)
	return Caller{Account: account, proved: true}, err
}

var errWrong = oci.Errorf(oci.CodeUnauthorized, "the account's name or its password is wrong, or the account cannot log in")

var errToken = oci.Errorf(oci.CodeUnauthorized, "the token is not good: it was revoked, has ended, or was never one of this registry; make another")

// Session returns the account that a secret stands for: a token, a login of the
// client or a session of the console.
func (a *Access) Session(ctx context.Context, secret, address string) (Caller, error) {
	return a.token("", secret, address)
}

// token finds a token. Where a name came with it, it must be that of its account.
func (a *Access) token(name, secret, address string) (Caller, error) {
	if !IsSecret(secret) {
		return Caller{}, oci.Errorf(oci.CodeUnauthorized, "the token is mistyped or cut off: it is %s and 39 letters and digits", secretPrefix)
	}
	rights := a.records.Rights()
	t, ok := rights.Token(hashOf(secret))
	if ok {
		if c, good := a.byToken(rights, t, address); good {
			if name != "" && name != c.Account.Name && name != "token" {
				return Caller{}, oci.Errorf(oci.CodeUnauthorized, "the token is not one of %s; log in under the name of its own account", name)
			}
			return c, nil
		}
	}
	a.refusedNobody(record.Event{Account: name, Address: address, Detail: "a token that is revoked, has ended or is not known"})
	return Caller{}, errToken
}

// byToken returns the caller that a token stands for, and whether it is good.
func (a *Access) byToken(rights *record.Rights, t record.Token, address string) (Caller, bool) {
	account, known := rights.Account(t.AccountID)
	c := Caller{Account: account, Token: t, Limited: t.Kind == record.TokenMade, Address: address, ends: t.EndsAt.Time()}
	if !known || account.DisabledAt != 0 || a.over(c) {
		return c, false
	}
	a.tokenUsed(t.ID, address)
	return c, true
}

// over reports whether a credential has come to its end.
func (a *Access) over(c Caller) bool { return !c.ends.IsZero() && !a.clock.Now().Before(c.ends) }

// Again returns a caller as it stands now, with what its account may now, and
// whether its credential is still good: for what goes on for longer than a request.
func (a *Access) Again(c Caller) (Caller, bool) {
	if c.Nobody() {
		return c, true
	}
	rights := a.records.Rights()
	account, known := rights.Account(c.Account.ID)
	if !known || account.DisabledAt != 0 || a.over(c) || !credentialStands(rights, account, c) {
		return c, false
	}
	c.Account = account
	return c, true
}

// credentialStands reports whether what a caller came by was neither revoked nor
// changed since.
func credentialStands(rights *record.Rights, account record.Account, c Caller) bool {
	switch {
	case c.Token.ID != 0:
		_, live := rights.TokenByID(c.Token.ID)
		return live
	case c.Rule.ID != 0:
		return ruleOf(rights, ruleKey(c.Rule), account.ID).ID != 0
	}
	return account.Password == c.Account.Password
}

// ruleKey names an identity rule in a way that no later one has.
func ruleKey(r record.IdentityRule) string { return fmt.Sprintf("%d.%d", r.ID, r.CreatedAt) }

// ruleOf returns the identity rule of a key that is for an account, or none.
func ruleOf(rights *record.Rights, key string, account int64) record.IdentityRule {
	for _, r := range rights.IdentityRules() {
		if r.AccountID == account && ruleKey(r) == key {
			return r
		}
	}
	return record.IdentityRule{}
}

// credential names the credential of a caller within a bearer token, in a way by
// which a change of password or the revoking of a token is noticed.
func (a *Access) credential(c Caller) string {
	switch {
	case c.Nobody():
		return ""
	case c.Token.ID != 0:
		return "t" + strconv.FormatInt(c.Token.ID, 10)
	case c.Rule.ID != 0:
		return "r" + ruleKey(c.Rule)
	}
	return "p" + passwordMark(c.Account)
}

// passwordMark tells the password of an account from the next, without saying
// anything about either.
func passwordMark(a record.Account) string {
	sum := sha256.Sum256([]byte(a.Password))
	return letters.EncodeToString(sum[:10])
}

// bind bounds a token by the credential of who makes it.
func (a *Access) bind(c Caller, t *record.Token) {
	if c.proved || a.freshlyNamed(c) {
		return
	}
	t.ParentID, t.RuleID = c.Token.ID, max(c.Rule.ID, c.Token.RuleID)
	if ends := record.StampOf(c.ends); ends != 0 && (t.EndsAt == 0 || t.EndsAt > ends) {
		t.EndsAt = ends
	}
}

// freshFor is how long a login by the company counts as its word of who asks: such
// an account has no password to prove itself by.
const freshFor = 10 * time.Minute

func (a *Access) freshlyNamed(c Caller) bool {
	own := c.Token.ID != 0 && c.Token.Kind != record.TokenMade && c.Token.ParentID == 0 && !c.signed
	return own && c.Account.Subject != "" && c.Account.Password == "" && a.clock.Now().Sub(c.Token.CreatedAt.Time()) < freshFor
}

// lasting refuses what would outlive a credential that is bounded: by scopes, or by
// the identity that it was traded for.
func (a *Access) lasting(c Caller, what string) error {
	if c.Limited || c.Rule.ID != 0 || c.Token.RuleID != 0 {
		return a.Denied(c, what, "%q may not %s: that outlasts it; log in as a registry admin for that", c.TokenName(), what)
	}
	return nil
}
