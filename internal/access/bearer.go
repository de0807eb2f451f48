package access

import (
	"context"
	"hash/maphash"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/golang-jwt/jwt/v5"

	"warthesis/internal/oci"
	"warthesis/internal/record"
)

// BearerLife is how long a bearer token is good.
const BearerLife = 15 * time.Minute

// issuer names this program in its bearer tokens.
const issuer = "warthesis"

// grantedScope is what a bearer token was asked for in one repository, and of that
// was given. What was asked and not given stands there with no actions, so that a
// client is not sent for the same token again.
type grantedScope struct {
	Type    string   `json:"type"`
	Name    string   `json:"name"`
	Actions []Action `json:"actions"`
}

// bearerClaims is what a bearer token says (RFC 7519).
type bearerClaims struct {
	jwt.RegisteredClaims
	// Credential names what it was got for; it must still be good at each use.
	Credential string         `json:"cred,omitempty"`
	Access     []grantedScope `json:"access,omitempty"`
	// Whole tells that the token stands for its credential as a whole.
	Whole bool `json:"whole,omitempty"`
}

// Bearer is a token that was given out.
type Bearer struct {
	Token  string
	Issued time.Time
	Life   time.Duration
}

// AskedScope is what somebody asks a bearer token for.
type AskedScope struct {
	Type    string
	Name    string
	Actions []Action
}

// String writes the scope as challenges do.
func (s AskedScope) String() string {
	words := make([]string, len(s.Actions))
	for i, a := range s.Actions {
		words[i] = string(a)
	}
	return s.Type + ":" + s.Name + ":" + strings.Join(words, ",")
}

// The types of scopes, and the name of the one that lists repositories.
const (
	scopeRepository = "repository"
	scopeRegistry   = "registry"
	catalogueName   = "catalog"
	// catalogueKey is how the scope of listing is found among those given: no
	// repository's name has a colon.
	catalogueKey = ":" + scopeRegistry + ":" + catalogueName
)

// scopeKey is how a scope is found among those given: that of a repository by its
// name, without putting together a text for each request.
func scopeKey(kind, name string) string {
	if kind == scopeRepository {
		return name
	}
	return ":" + kind + ":" + name
}

// CatalogueScope is the scope of listing repositories.
var CatalogueScope = AskedScope{scopeRegistry, catalogueName, []Action{everything}}

// MayCatalogue reports whether the caller's bearer token, if it came by one, is for
// listing repositories.
func (c Caller) MayCatalogue() bool {
	return c.asked == nil || slices.Contains(c.asked[catalogueKey], everything)
}

// everything is how clients ask for all actions.
const everything Action = "*"

// ParseScope reads a scope of a challenge, "repository:name:pull,push". Actions
// that nobody knows are passed over.
func ParseScope(s string) (AskedScope, bool) {
	kind, rest, ok := strings.Cut(s, ":")
	colon := strings.LastIndexByte(rest, ':')
	if !ok || colon < 0 || len(s) > 1024 {
		return AskedScope{}, false
	}
	asked := AskedScope{Type: kind, Name: rest[:colon]}
	for word := range strings.SplitSeq(rest[colon+1:], ",") {
		switch a := Action(word); a {
		case Pull, Push, Delete, everything:
			asked.Actions = append(asked.Actions, a)
		}
	}
	return asked, true
}

// mostScopes is how many scopes one bearer token may be asked for.
const mostScopes = 64

// Give returns a bearer token for as much of what is asked as the caller may do, and
// as a bearer token by which it came was given.
func (a *Access) Give(ctx context.Context, c Caller, asked []AskedScope) (Bearer, error) {
	if len(asked) > mostScopes {
		return Bearer{}, oci.Errorf(oci.CodeQueryInvalid, "%d scopes were asked for, at most %d may be", len(asked), mostScopes)
	}
	var granted []grantedScope
	for _, s := range asked {
		given, err := a.given(ctx, c, s)
		if err != nil {
			return Bearer{}, err
		}
		granted = append(granted, grantedScope{s.Type, s.Name, given})
	}
	return a.sign(c, bearerClaims{Access: granted})
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
	return a.sign(c, bearerClaims{Whole: true})
}

// sign gives a bearer token out, which ends no later than the credential.
func (a *Access) sign(c Caller, claims bearerClaims) (Bearer, error) {
	now := a.clock.Now().Truncate(time.Second)
	until := now.Add(BearerLife)
	if !c.ends.IsZero() && c.ends.Before(until) {
		until = c.ends.Truncate(time.Second)
	}
	if !until.After(now) {
		return Bearer{}, errBearer
	}
	claims.RegisteredClaims = jwt.RegisteredClaims{
		Issuer: issuer, Subject: strconv.FormatInt(c.Account.ID, 10), Audience: jwt.ClaimStrings{issuer},
		IssuedAt: jwt.NewNumericDate(now), ExpiresAt: jwt.NewNumericDate(until),
	}
	claims.Credential = a.credential(c)
	token, err := a.keys.sign(claims)
	return Bearer{token, now, until.Sub(now)}, err
}

// looksLikeBearer tells a token that was signed from a password: all begin so.
func looksLikeBearer(s string) bool { return strings.HasPrefix(s, "eyJ") && strings.Count(s, ".") == 2 }

// given returns the actions of a scope that the caller may do.
func (a *Access) given(ctx context.Context, c Caller, s AskedScope) ([]Action, error) {
	given := []Action{}
	if s.Type == scopeRegistry && s.Name == catalogueName && !c.Nobody() && c.MayCatalogue() {
		return append(given, everything), nil
	}
	name, err := oci.ParseName(s.Name)
	if s.Type != scopeRepository || err != nil {
		return given, nil
	}
	for _, action := range []Action{Pull, Push, Delete} {
		if !slices.Contains(s.Actions, action) && !slices.Contains(s.Actions, everything) || !c.covers(name, action) {
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
		return Caller{}, errBearer
	}
	c := Caller{asked: checked.asked, signed: true, Address: address, ends: checked.until}
	if checked.kind == forNobody {
		return c, nil
	}
	account, ok := rights.Account(checked.account)
	if !ok || account.DisabledAt != 0 {
		return Caller{}, errBearer
	}
	c.Account = account
	switch checked.kind {
	case byToken:
		t, live := rights.TokenByID(checked.token)
		by, good := a.byToken(rights, t, address)
		if !live || !good || t.AccountID != account.ID {
			return Caller{}, errBearer
		}
		c.Token, c.Limited = t, by.Limited
	case byRule:
		if c.Rule = ruleOf(rights, checked.rule, account.ID); c.Rule.ID == 0 {
			return Caller{}, errBearer
		}
	default:
		if account.Password != checked.password {
			return Caller{}, errBearer
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
		return nil, errBearer
	}
	var claims bearerClaims
	_, err := jwt.ParseWithClaims(token, &claims, a.keys.find,
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

func (a *Access) takeApart(rights *record.Rights, claims bearerClaims) (*checkedBearer, error) {
	checked := &checkedBearer{until: claims.ExpiresAt.Time}
	if !claims.Whole {
		checked.asked = make(map[string][]Action, len(claims.Access))
		for _, s := range claims.Access {
			// One repository may have been asked for several times.
			key := scopeKey(s.Type, s.Name)
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
			err = errBearer
		}
	}
	return checked, err
}
