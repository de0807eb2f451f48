package access

import (
	"context"
	"hash/maphash"
	"slices"
	"strconv"
	"time"

	"github.com/golang-jwt/jwt/v5"

	"warthesis/internal/access/bearer"
	"warthesis/internal/oci"
	"warthesis/internal/record"
)

// BearerLife is how long a bearer token is good.
const BearerLife = 15 * time.Minute

// issuer names this program in its bearer tokens.
const issuer = "warthesis"

// Bearer is a token that was given out.
type Bearer struct {
	Token  string
	Issued time.Time
	Life   time.Duration
}

// MayCatalogue reports whether the caller's bearer token, if it came by one, is for
// listing repositories.
func (c Caller) MayCatalogue() bool {
	return c.asked == nil || slices.Contains(c.asked[bearer.CatalogueKey], bearer.Everything)
}

// mostScopes is how many scopes one bearer token may be asked for.
const mostScopes = 64

// Give returns a bearer token for as much of what is asked as the caller may do, and
// as a bearer token by which it came was given.
func (a *Access) Give(ctx context.Context, c Caller, asked []bearer.AskedScope) (Bearer, error) {
	if len(asked) > mostScopes {
		return Bearer{}, oci.Errorf(oci.CodeQueryInvalid, "%d scopes were asked for, at most %d may be", len(asked), mostScopes)
	}
	var granted []bearer.GrantedScope
	for _, s := range asked {
		given, err := a.given(ctx, c, s)
		if err != nil {
			return Bearer{}, err
		}
		granted = append(granted, bearer.GrantedScope{Type: s.Type, Name: s.Name, Actions: given})
	}
	return a.sign(c, bearer.BearerClaims{Access: granted})
}

// GiveShort returns a token that stands for the caller's credential as a whole, for
// a short time: as a password, or as a bearer token. One that was got by another
// ends with that one.
func (a *Access) GiveShort(c Caller) (Bearer, error) {
	if err := a.AsLoggedIn(c); err != nil {
		return Bearer{}, err
	}
	if c.asked != nil {
		return Bearer{}, oci.Errorf(oci.CodeDenied, "a bearer token for some repositories cannot become one for all")
	}
	return a.sign(c, bearer.BearerClaims{Whole: true})
}

// sign gives a bearer token out, which ends no later than the credential.
func (a *Access) sign(c Caller, claims bearer.BearerClaims) (Bearer, error) {
	now := a.clock.Now().Truncate(time.Second)
	until := now.Add(BearerLife)
	if !c.ends.IsZero() && c.ends.Before(until) {
		until = c.ends.Truncate(time.Second)
	}
	if !until.After(now) {
		return Bearer{}, bearer.ErrBearer
	}
	claims.RegisteredClaims = jwt.RegisteredClaims{
		Issuer: issuer, Subject: strconv.FormatInt(c.Account.ID, 10), Audience: jwt.ClaimStrings{issuer},
		IssuedAt: jwt.NewNumericDate(now), ExpiresAt: jwt.NewNumericDate(until),
	}
	claims.Credential = a.credential(c)
	token, err := a.keys.Sign(claims)
	return Bearer{token, now, until.Sub(now)}, err
}

// given returns the actions of a scope that the caller may do.
func (a *Access) given(ctx context.Context, c Caller, s bearer.AskedScope) ([]Action, error) {
	given := []Action{}
	if s.Type == bearer.ScopeRegistry && s.Name == bearer.CatalogueName && !c.Nobody() && c.MayCatalogue() {
		return append(given, bearer.Everything), nil
	}
	name, err := oci.ParseName(s.Name)
	if s.Type != bearer.ScopeRepository || err != nil {
		return given, nil
	}
	for _, action := range []Action{Pull, Push, Delete} {
		if !slices.Contains(s.Actions, action) && !slices.Contains(s.Actions, bearer.Everything) || !c.covers(name, action) {
			continue
		}
		allowed, _, err := a.may(ctx, c, name, action)
		if err != nil {
			return nil, err
		}
		if allowed || action == Push && a.mayMakeByPush(c, name) {
			given = append(given, action)
		}
	}
	return given, nil
}

// Bearer returns who stands behind a bearer token. It fails with oci.CodeUnauthorized.
func (a *Access) Bearer(ctx context.Context, token, address string) (Caller, error) {
	if looksLikeSecret(token) {
		return a.Session(ctx, token, address)
	}
	rights := a.records.Rights()
	checked, err := a.check(rights, token)
	if err != nil {
		return Caller{}, bearer.ErrBearer
	}
	c := Caller{asked: checked.asked, signed: true, Address: address, ends: checked.until}
	if checked.kind == forNobody {
		return c, nil
	}
	account, ok := rights.Account(checked.account)
	if !ok || account.DisabledAt != 0 {
		return Caller{}, bearer.ErrBearer
	}
	c.Account = account
	switch checked.kind {
	case byToken:
		t, live := rights.TokenByID(checked.token)
		by, good := a.byToken(rights, t, address)
		if !live || !good || t.AccountID != account.ID {
			return Caller{}, bearer.ErrBearer
		}
		c.Token, c.Limited = t, by.Limited
	case byRule:
		if c.Rule = ruleOf(rights, checked.rule, account.ID); c.Rule.ID == 0 {
			return Caller{}, bearer.ErrBearer
		}
	default:
		if account.Password != checked.password {
			return Caller{}, bearer.ErrBearer
		}
	}
	return c, nil
}

// credentialKind is by what a bearer token was got.
type credentialKind byte

const (
	forNobody  credentialKind = 0
	byToken    credentialKind = 't'
	byRule     credentialKind = 'r'
	byPassword credentialKind = 'p'
)

// checkedBearer is a bearer token whose signature was checked, taken apart.
type checkedBearer struct {
	text  string
	until time.Time
	// asked is nil where the token stands for its credential as a whole.
	asked   map[string][]Action
	kind    credentialKind
	account int64
	token   int64
	rule    string
	// password is the hash of the password by which it was got.
	password string
}

// check returns what a bearer token says, once its signature was checked. The
// check is remembered until the token ends.
func (a *Access) check(rights *record.Rights, token string) (*checkedBearer, error) {
	key := maphash.String(a.bearerSeed, token)
	now := a.clock.Now()
	if known, ok := a.bearer.Get(key); ok && known.text == token {
		if now.Before(known.until) {
			return known, nil
		}
		a.bearer.Remove(key)
		return nil, bearer.ErrBearer
	}
	var claims bearer.BearerClaims
	_, err := jwt.ParseWithClaims(token, &claims, a.keys.Find,
		jwt.WithValidMethods([]string{jwt.SigningMethodEdDSA.Alg()}), jwt.WithIssuer(issuer), jwt.WithAudience(issuer),
		jwt.WithExpirationRequired(), jwt.WithTimeFunc(a.clock.Now))
	if err != nil {
		return nil, err
	}
	checked, err := a.takeApart(rights, claims)
	if err != nil {
		return nil, err
	}
	checked.text = token
	a.bearer.Add(key, checked)
	return checked, nil
}

func (a *Access) takeApart(rights *record.Rights, claims bearer.BearerClaims) (*checkedBearer, error) {
	checked := &checkedBearer{until: claims.ExpiresAt.Time}
	if !claims.Whole {
		checked.asked = make(map[string][]Action, len(claims.Access))
		for _, s := range claims.Access {
			// One repository may have been asked for several times.
			key := bearer.ScopeKey(s.Type, s.Name)
			checked.asked[key] = append(checked.asked[key], s.Actions...)
		}
	}
	if claims.Credential == "" {
		return checked, nil
	}
	var err error
	if checked.account, err = strconv.ParseInt(claims.Subject, 10, 64); err != nil {
		return nil, err
	}
	checked.kind = credentialKind(claims.Credential[0])
	rest := claims.Credential[1:]
	switch checked.kind {
	case byToken:
		checked.token, err = strconv.ParseInt(rest, 10, 64)
	case byRule:
		checked.rule = rest
	default:
		account, _ := rights.Account(checked.account)
		if checked.password = account.Password; passwordMark(account) != rest {
			err = bearer.ErrBearer
		}
	}
	return checked, err
}
