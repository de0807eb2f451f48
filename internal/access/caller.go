package access

import (
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"fmt"
	"strconv"
	"time"

	"warthesis/internal/oci"
	"warthesis/internal/record"
)

// Caller is who asks: an account with the credential by which it came, or nobody.
type Caller struct {
	// Account has the ID 0 for nobody.
	Account record.Account
	// Token is the token by which the account came; its ID is 0 for a password.
	Token record.Token
	// Limited tells that the credential's scopes bound what may be done.
	Limited bool
	// asked is what a bearer token was asked for and given, by repository; nil
	// where the credential itself came.
	asked map[string][]Action
	// Address is the network address, and Request the request's ID.
	Address string
	Request string
}

// Nobody reports whether the caller has not logged in.
func (c Caller) Nobody() bool { return c.Account.ID == 0 }

// Event starts a line of the audit log.
func (c Caller) Event(kind record.EventKind) record.Event {
	return record.Event{Kind: kind, Account: c.Account.Name, Token: c.TokenName(), Address: c.Address, Request: c.Request}
}

// TokenName names the token by which the account came, "" for a password.
func (c Caller) TokenName() string { return c.Token.Name }

// who names the caller in a sentence.
func (c Caller) who() string {
	if c.Nobody() {
		return "nobody is logged in, and nobody"
	}
	return c.Account.Name
}

// As returns a caller for an account without its credentials: for what this program
// itself does in the account's place.
func (a *Access) As(ctx context.Context, name string) (Caller, error) {
	account, err := a.account(ctx, name)
	return Caller{Account: account}, err
}

// The refusals of logging in.
var (
	errWrong = oci.Errorf(oci.CodeUnauthorized, "the account's name or its password is wrong, or the account cannot log in")
	errToken = oci.Errorf(oci.CodeUnauthorized, "the token is not good: it was revoked, has ended, or was never one of this registry; make another")
)

// SlowDown is the refusal of a try that comes too soon after wrong ones.
type SlowDown struct {
	// After is how long to wait.
	After time.Duration
}

// Error says it in a sentence.
func (s *SlowDown) Error() string {
	return fmt.Sprintf("too many wrong tries from this address; wait %s and try again", s.After.Round(time.Second))
}

// verifiedPassword is a password that was right, with the hash it was right for.
type verifiedPassword struct {
	kept string
	at   time.Duration
}

// verifiedFor is the served time for which a password that was right is not hashed again.
const verifiedFor = 5 * time.Minute

// Password returns the account that a name and a password, or a token in place of
// it, stand for. It fails with oci.CodeUnauthorized, or with a SlowDown.
func (a *Access) Password(ctx context.Context, name, password, address string) (Caller, error) {
	rights, err := a.records.Rights(ctx)
	if err != nil {
		return Caller{}, err
	}
	if looksLikeSecret(password) {
		return a.token(rights, name, password, address)
	}
	if looksLikeBearer(password) {
		c, err := a.Bearer(ctx, password, address)
		if err == nil && (c.asked != nil || c.Account.Name != name) {
			err = errToken
		}
		return c, err
	}
	if len(name) > oci.MaxNameLength || len(password) > mostPassword {
		return Caller{}, errWrong
	}
	account := rights.Accounts[rights.ByName[name]]
	key := a.mac(name, password)
	if v, ok := a.verified.Get(key); ok && v.kept == account.Password && account.DisabledAt == 0 && a.clock.Served()-v.at < verifiedFor {
		return Caller{Account: account, Address: address}, nil
	}
	if wait := a.slow.wait(name, address); wait > 0 {
		return Caller{}, &SlowDown{wait}
	}
	right, err := matches(ctx, password, account.Password)
	if err != nil {
		return Caller{}, err
	}
	if !right {
		a.slow.wrong(name, address)
		a.Refused(record.Event{Account: name, Address: address, Detail: "wrong password, or no such account"})
		return Caller{}, errWrong
	}
	if account.DisabledAt != 0 {
		a.Refused(record.Event{Account: name, Address: address, Detail: "the account is disabled"})
		return Caller{}, errWrong
	}
	a.slow.right(name, address)
	a.verified.Add(key, verifiedPassword{account.Password, a.clock.Served()})
	return Caller{Account: account, Address: address}, nil
}

func (a *Access) mac(name, password string) (key [32]byte) {
	h := hmac.New(sha256.New, a.macKey[:])
	fmt.Fprintf(h, "%d %s%s", len(name), name, password)
	return [32]byte(h.Sum(nil))
}

// Session returns the account that a secret stands for: a token, a login of the
// client or a session of the console.
func (a *Access) Session(ctx context.Context, secret, address string) (Caller, error) {
	rights, err := a.records.Rights(ctx)
	if err != nil {
		return Caller{}, err
	}
	return a.token(rights, "", secret, address)
}

// token finds a token. Where a name came with it, it must be that of its account.
func (a *Access) token(rights *record.Rights, name, secret, address string) (Caller, error) {
	if !IsSecret(secret) {
		return Caller{}, oci.Errorf(oci.CodeUnauthorized, "the token is mistyped or cut off: it is %s and 39 letters and digits", secretPrefix)
	}
	t, ok := rights.Tokens[hashOf(secret)]
	if !ok || a.over(t) {
		a.Refused(record.Event{Account: name, Address: address, Detail: "a token that is revoked, has ended or is not known"})
		return Caller{}, errToken
	}
	account := rights.Accounts[t.AccountID]
	if name != "" && name != account.Name && name != "token" {
		return Caller{}, oci.Errorf(oci.CodeUnauthorized, "the token is not one of %s; log in under the name of its own account", name)
	}
	a.tokenUsed(t.ID, address)
	return Caller{Account: account, Token: t, Limited: t.Kind == record.TokenMade, Address: address}, nil
}

// IsGood reports whether the credential by which a caller came is still good.
func (a *Access) IsGood(ctx context.Context, c Caller) bool {
	rights, err := a.records.Rights(ctx)
	if err != nil || c.Nobody() {
		return err == nil
	}
	account, known := rights.Accounts[c.Account.ID]
	if !known || account.DisabledAt != 0 {
		return false
	}
	if c.Token.ID == 0 {
		return account.Password == c.Account.Password
	}
	t, live := rights.TokenIDs[c.Token.ID]
	return live && !a.over(t)
}

// over reports whether a token has come to its end date.
func (a *Access) over(t record.Token) bool {
	return t.EndsAt != 0 && t.EndsAt <= record.StampOf(a.clock.Now())
}

// credential names the credential of a caller within a bearer token, in a way by
// which a change of password or the revoking of a token is noticed.
func (a *Access) credential(c Caller) string {
	switch {
	case c.Nobody():
		return ""
	case c.Token.ID != 0:
		return "t" + strconv.FormatInt(c.Token.ID, 10)
	case c.Token.Name != "":
		return "r" + c.Token.Name
	}
	sum := sha256.Sum256([]byte(c.Account.Password))
	return "p" + letters.EncodeToString(sum[:10])
}
