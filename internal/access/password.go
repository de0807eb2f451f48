package access

import (
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"errors"
	"fmt"
	"time"

	"warthesis/internal/access/bearer"
	"warthesis/internal/access/crowd"
	"warthesis/internal/access/passwords"
	"warthesis/internal/oci"
	"warthesis/internal/record"
)

// HashPassword returns a password's hash in the form that records keep.
func (a *Access) HashPassword(ctx context.Context, password string) (kept string, err error) {
	err = a.hashers.Do(ctx, "", func() { kept = passwords.NewHash(password) })
	if errors.Is(err, passwords.ErrCrowded) {
		err = &passwords.SlowDown{After: passwords.CrowdedFor}
	}
	return kept, err
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
	if looksLikeSecret(password) {
		return a.token(name, password, address)
	}
	if bearer.LooksLikeBearer(password) {
		c, err := a.Bearer(ctx, password, address)
		if err == nil && (c.asked != nil || c.Account.Name != name) {
			err = errToken
		}
		return c, err
	}
	return a.prove(ctx, name, password, address)
}

// prove returns the account whose password it is: the password itself, and nothing
// that was got by it.
func (a *Access) prove(ctx context.Context, name, password, address string) (Caller, error) {
	if len(name) > oci.MaxNameLength || len(password) > passwords.MostPassword {
		return Caller{}, errWrong
	}
	account, _ := a.records.Rights().AccountNamed(name)
	key := a.mac(name, password)
	if v, ok := a.verified.Get(key); ok && v.kept == account.Password && account.DisabledAt == 0 && a.clock.Served()-v.at < verifiedFor {
		return Caller{Account: account, Address: address, proved: true}, nil
	}
	from := crowd.Neighbourhood(address)
	// The same password that comes several times at once is one try.
	right, err, _ := a.trying.Do(string(key[:]), func() (any, error) {
		return a.try(context.WithoutCancel(ctx), account, name, password, from)
	})
	if err != nil {
		if errors.Is(err, passwords.ErrCrowded) {
			a.hashers.Hold(ctx, from, passwords.CrowdedFor)
			err = &passwords.SlowDown{After: passwords.CrowdedFor}
		}
		return Caller{}, err
	}
	if !right.(bool) {
		a.hashers.Hold(ctx, from, a.hashers.Wrong(from))
		detail := "wrong password, or no such account"
		if account.DisabledAt != 0 {
			detail = "the account is disabled"
		}
		a.refusedNobody(record.Event{Account: name, Address: address, Detail: detail})
		return Caller{}, errWrong
	}
	a.verified.Add(key, verifiedPassword{account.Password, a.clock.Served()})
	return Caller{Account: account, Address: address, proved: true}, nil
}

// try checks one password. It counts before any work is done: a try is wrong until
// it was right.
func (a *Access) try(ctx context.Context, account record.Account, name, password, from string) (right bool, err error) {
	if wait := a.slow.Begin(name, from); wait > 0 {
		return false, &passwords.SlowDown{After: wait}
	}
	if waited := a.hashers.Do(ctx, from, func() { right, err = passwords.Matches(password, account.Password) }); waited != nil {
		a.slow.Undo(name, from)
		return false, waited
	}
	// Of an account that is disabled no password is right, and none is told from another.
	if right = right && account.DisabledAt == 0; right {
		a.slow.Right(name, from)
	}
	return right, err
}

func (a *Access) mac(name, password string) (key [32]byte) {
	h := hmac.New(sha256.New, a.macKey[:])
	fmt.Fprintf(h, "%d %s%s", len(name), name, password)
	return [32]byte(h.Sum(nil))
}
