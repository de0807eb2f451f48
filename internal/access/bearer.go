package access

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	"hash/maphash"
	"os"
	"path/filepath"
	"slices"
	"sort"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/golang-jwt/jwt/v5"

	"warthesis/internal/clock"
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

// Give returns a bearer token for as much of what is asked as the caller may do.
func (a *Access) Give(ctx context.Context, c Caller, asked []AskedScope) (Bearer, error) {
	if len(asked) > mostScopes {
		return Bearer{}, oci.Errorf(oci.CodeQueryInvalid, "%d scopes were asked for, at most %d may be", len(asked), mostScopes)
	}
	rights, err := a.records.Rights(ctx)
	if err != nil {
		return Bearer{}, err
	}
	var granted []grantedScope
	for _, s := range asked {
		granted = append(granted, grantedScope{s.Type, s.Name, a.given(rights, c, s)})
	}
	return a.sign(c, bearerClaims{Access: granted})
}

// GiveShort returns a token that stands for the caller's credential as a whole, for
// a short time: as a password, or as a bearer token.
func (a *Access) GiveShort(c Caller) (Bearer, error) {
	if err := a.AsLoggedIn(c); err != nil {
		return Bearer{}, err
	}
	if c.asked != nil {
		return Bearer{}, oci.Errorf(oci.CodeDenied, "a bearer token for some repositories cannot become one for all")
	}
	return a.sign(c, bearerClaims{Whole: true})
}

func (a *Access) sign(c Caller, claims bearerClaims) (Bearer, error) {
	now := a.clock.Now().Truncate(time.Second)
	claims.RegisteredClaims = jwt.RegisteredClaims{
		Issuer: issuer, Subject: strconv.FormatInt(c.Account.ID, 10), Audience: jwt.ClaimStrings{issuer},
		IssuedAt: jwt.NewNumericDate(now), ExpiresAt: jwt.NewNumericDate(now.Add(BearerLife)),
	}
	claims.Credential = a.credential(c)
	token, err := a.keys.sign(claims)
	return Bearer{token, now, BearerLife}, err
}

// looksLikeBearer tells a token that was signed from a password: all begin so.
func looksLikeBearer(s string) bool { return strings.HasPrefix(s, "eyJ") && strings.Count(s, ".") == 2 }

// given returns the actions of a scope that the caller may do.
func (a *Access) given(rights *record.Rights, c Caller, s AskedScope) []Action {
	given := []Action{}
	if s.Type == scopeRegistry && s.Name == catalogueName && !c.Nobody() {
		return append(given, everything)
	}
	name, err := oci.ParseName(s.Name)
	if s.Type != scopeRepository || err != nil {
		return given
	}
	for _, action := range []Action{Pull, Push, Delete} {
		if !slices.Contains(s.Actions, action) && !slices.Contains(s.Actions, everything) {
			continue
		}
		if allowed, _ := may(rights, c, name, action); allowed {
			given = append(given, action)
		}
	}
	return given
}

// errBearer is the refusal of a bearer token.
var errBearer = oci.Errorf(oci.CodeUnauthorized, "the bearer token is not good any more; ask the token endpoint for another")

// Bearer returns who stands behind a bearer token. It fails with oci.CodeUnauthorized.
func (a *Access) Bearer(ctx context.Context, token, address string) (Caller, error) {
	if looksLikeSecret(token) {
		return a.Session(ctx, token, address)
	}
	rights, err := a.records.Rights(ctx)
	if err != nil {
		return Caller{}, err
	}
	checked, err := a.check(rights, token)
	if err != nil {
		return Caller{}, errBearer
	}
	c := Caller{asked: checked.asked, Address: address}
	if checked.kind == forNobody {
		return c, nil
	}
	account, ok := rights.Accounts[checked.account]
	if !ok || account.DisabledAt != 0 {
		return Caller{}, errBearer
	}
	c.Account = account
	switch checked.kind {
	case byToken:
		t, live := rights.TokenIDs[checked.token]
		if !live || a.over(t) {
			return Caller{}, errBearer
		}
		c.Token, c.Limited = t, t.Kind == record.TokenMade
		a.tokenUsed(t.ID, address)
	case byRule:
		if !slices.ContainsFunc(rights.Rules, func(r record.IdentityRule) bool { return r.Name == checked.rule && r.AccountID == account.ID }) {
			return Caller{}, errBearer
		}
		c.Token.Name = checked.rule
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
		account := rights.Accounts[checked.account]
		if checked.password = account.Password; a.credential(Caller{Account: account}) != claims.Credential {
			err = errBearer
		}
	}
	return checked, err
}

// keyring holds the keys that sign bearer tokens, the newest signing.
type keyring struct {
	folder string
	clock  clock.Clock

	mu   sync.RWMutex
	keys []signingKey
}

type signingKey struct {
	id      string
	created time.Time
	private ed25519.PrivateKey
}

const (
	// keyAge is the age at which a new key signs in place of the newest.
	keyAge = 30 * 24 * time.Hour
	// keyRest is how long a key that signs no more is kept: longer than any token.
	keyRest = 24 * time.Hour
	keyName = "bearer-"
	keyEnd  = ".pem"
)

func openKeyring(folder string, clk clock.Clock) (*keyring, error) {
	k := &keyring{folder: folder, clock: clk}
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return nil, fmt.Errorf("prepare the folder of keys: %w", err)
	}
	files, err := filepath.Glob(filepath.Join(folder, keyName+"*"+keyEnd))
	if err != nil {
		return nil, err
	}
	for _, file := range files {
		key, err := readKey(file)
		if err != nil {
			return nil, fmt.Errorf("read the key %s: %w; put the right file back, or remove it and everybody logs in anew", file, err)
		}
		k.keys = append(k.keys, key)
	}
	sort.Slice(k.keys, func(i, j int) bool { return k.keys[i].created.Before(k.keys[j].created) })
	return k, k.rotate(keyAge)
}

func readKey(file string) (signingKey, error) {
	raw, err := os.ReadFile(file)
	if err != nil {
		return signingKey{}, err
	}
	block, _ := pem.Decode(raw)
	if block == nil {
		return signingKey{}, errors.New("it is no PEM file")
	}
	parsed, err := x509.ParsePKCS8PrivateKey(block.Bytes)
	if err != nil {
		return signingKey{}, err
	}
	private, ok := parsed.(ed25519.PrivateKey)
	if !ok {
		return signingKey{}, errors.New("it is no Ed25519 key")
	}
	id := strings.TrimSuffix(strings.TrimPrefix(filepath.Base(file), keyName), keyEnd)
	created, err := strconv.ParseInt(id, 10, 64)
	return signingKey{id, time.UnixMilli(created), private}, err
}

// rotate makes a key where the newest is older than age, and lets go of those that
// have rested.
func (k *keyring) rotate(age time.Duration) error {
	k.mu.Lock()
	defer k.mu.Unlock()
	now := k.clock.Now()
	if len(k.keys) == 0 || now.Sub(k.keys[len(k.keys)-1].created) >= age {
		key, err := k.make(now)
		if err != nil {
			return fmt.Errorf("make a key: %w", err)
		}
		k.keys = append(k.keys, key)
	}
	for len(k.keys) > 1 && now.Sub(k.keys[1].created) > keyRest {
		if err := os.Remove(k.file(k.keys[0].id)); err != nil {
			return err
		}
		k.keys = k.keys[1:]
	}
	return nil
}

func (k *keyring) file(id string) string { return filepath.Join(k.folder, keyName+id+keyEnd) }

func (k *keyring) make(now time.Time) (signingKey, error) {
	_, private, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return signingKey{}, err
	}
	raw, err := x509.MarshalPKCS8PrivateKey(private)
	if err != nil {
		return signingKey{}, err
	}
	id := strconv.FormatInt(now.UnixMilli(), 10)
	return signingKey{id, now, private}, writeKey(k.file(id), pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: raw}))
}

// writeKey writes a file whole or not at all, for the owner's eyes alone.
func writeKey(file string, raw []byte) error {
	f, err := os.OpenFile(file+".new", os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	_, err = f.Write(raw)
	if err = errors.Join(err, f.Sync(), f.Close()); err != nil {
		return err
	}
	return os.Rename(file+".new", file)
}

func (k *keyring) sign(claims bearerClaims) (string, error) {
	k.mu.RLock()
	defer k.mu.RUnlock()
	key := k.keys[len(k.keys)-1]
	t := jwt.NewWithClaims(jwt.SigningMethodEdDSA, claims)
	t.Header["kid"] = key.id
	return t.SignedString(key.private)
}

// find returns the key that a token says it was signed by.
func (k *keyring) find(t *jwt.Token) (any, error) {
	id, _ := t.Header["kid"].(string)
	k.mu.RLock()
	defer k.mu.RUnlock()
	for _, key := range k.keys {
		if key.id == id {
			return key.private.Public(), nil
		}
	}
	return nil, errBearer
}
