package peer

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"time"

	"warthesis/internal/login"
	"warthesis/internal/oci"
)

// authorizer gets the tokens that a registry wants, and keeps them while they are good.
type authorizer struct {
	// credentials are looked up once, when the registry first asks.
	credentials func(context.Context) (login.Credentials, error)

	mu     sync.Mutex
	known  bool
	found  login.Credentials
	failed error
	// basic tells that the registry takes the credentials themselves.
	basic bool
	// tokens are by scope.
	tokens map[string]bearerToken

	// preparing lets one request find out what is wanted, and get each token, while
	// those beside it wait.
	preparing  sync.Mutex
	asked      bool
	challenges []challenge
}

type bearerToken struct {
	token string
	until time.Time
}

func (a *authorizer) look(ctx context.Context) (login.Credentials, error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if !a.known && a.credentials != nil {
		a.found, a.failed = a.credentials(ctx)
	}
	a.known = true
	return a.found, a.failed
}

// header returns what is known to be wanted for a scope, "" for nothing. A token
// to push is one to pull as well.
func (a *authorizer) header(scope string) string {
	a.mu.Lock()
	defer a.mu.Unlock()
	for _, one := range []string{scope, scope + ",push"} {
		if t, ok := a.tokens[one]; ok && time.Now().Before(t.until) {
			return "Bearer " + t.token
		}
	}
	if a.basic {
		return basicHeader(a.found)
	}
	return ""
}

// prepare finds out, before the first request, what the registry wants, and gets
// the token for a scope, so that no body is sent in vain.
func (c *Client) prepare(ctx context.Context, scope string) error {
	if scope == "" || c.auth.header(scope) != "" {
		return nil
	}
	c.auth.preparing.Lock()
	defer c.auth.preparing.Unlock()
	if c.auth.header(scope) != "" {
		return nil
	}
	if !c.auth.asked {
		answer, err := c.send(ctx, request{method: http.MethodGet, path: "/"}, "")
		if err != nil {
			// The request itself says it, or is tried again.
			return nil
		}
		answer.Body.Close()
		c.auth.asked = true
		// A challenge counts from the registry itself alone.
		if answer.StatusCode == http.StatusUnauthorized && !answer.away {
			c.auth.challenges = readChallenges(answer.Header.Values("WWW-Authenticate"))
		}
	}
	_, err := c.answerOne(ctx, c.auth.challenges, scope)
	return err
}

func basicHeader(c login.Credentials) string {
	r := http.Request{Header: http.Header{}}
	r.SetBasicAuth(c.Account, c.Secret)
	return r.Header.Get("Authorization")
}

// scopeOf names what a request wants a token for.
func scopeOf(r request) string {
	if r.path == "_catalog" {
		return "registry:catalog:*"
	}
	path := r.path
	if r.at != nil {
		// An address that was put together has no slash before its path.
		_, path, _ = strings.Cut("/"+r.at.Path, "/v2/")
	}
	for _, word := range []string{"/" + DigestsExtension + "/", "/blobs/", "/manifests/", "/tags/", "/referrers/"} {
		if name, _, found := strings.Cut(path, word); found {
			if r.method == http.MethodGet || r.method == http.MethodHead {
				return "repository:" + name + ":pull"
			}
			if r.method == http.MethodDelete {
				return "repository:" + name + ":delete"
			}
			return "repository:" + name + ":pull,push"
		}
	}
	return ""
}

// authorize answers the challenges of a refusal of the registry: it returns whether
// the request is worth another try.
func (c *Client) authorize(ctx context.Context, answer *reply, scope string) (bool, error) {
	challenges := readChallenges(answer.Header.Values("WWW-Authenticate"))
	if scope == "" {
		// What is asked for at the door is asked for behind it, and shown to people.
		c.auth.preparing.Lock()
		c.auth.asked, c.auth.challenges = true, challenges
		c.auth.preparing.Unlock()
	}
	return c.answerOne(ctx, challenges, scope)
}

// answerOne answers the first of several challenges that can be: one for a token
// before one for the password itself.
func (c *Client) answerOne(ctx context.Context, challenges []challenge, scope string) (again bool, err error) {
	for _, scheme := range []string{"bearer", "basic"} {
		for _, asked := range challenges {
			if asked.scheme != scheme {
				continue
			}
			if again, err = c.answerChallenge(ctx, asked, scope); again && err == nil {
				return true, nil
			}
		}
	}
	return again, err
}

// answerChallenge gets what a challenge asks for, and reports whether there is
// anything new to try.
func (c *Client) answerChallenge(ctx context.Context, asked challenge, scope string) (bool, error) {
	found, err := c.auth.look(ctx)
	if err != nil {
		return false, err
	}
	switch {
	case asked.scheme == "bearer":
		return true, c.fetchToken(ctx, asked, found, scope)
	case asked.scheme == "basic" && found.Identity:
		return false, oci.Errorf(oci.CodeUnauthorized, "%s wants a name with a password, and %s has an identity token, which is none; log in anew: warthesis login %s", c.registry, found.From, c.registry)
	case asked.scheme == "basic" && !found.Empty():
		c.auth.mu.Lock()
		defer c.auth.mu.Unlock()
		again := !c.auth.basic
		c.auth.basic = true
		return again, nil
	}
	return false, nil
}

// Realms returns where the registry asks for tokens to be fetched, for people.
func (c *Client) Realms() []string {
	c.auth.preparing.Lock()
	defer c.auth.preparing.Unlock()
	var all []string
	for _, asked := range c.auth.challenges {
		if realm := asked.parts["realm"]; asked.scheme == "bearer" && realm != "" {
			all = append(all, realm)
		}
	}
	return all
}

// realm reads where a token is to be fetched. It may be elsewhere, where the registry
// itself says so: by https, or where the registry is not encrypted either.
func (c *Client) realm(asked challenge) (*url.URL, error) {
	realm, err := url.Parse(asked.parts["realm"])
	if err != nil || realm.Host == "" || realm.Scheme != "https" && realm.Scheme != "http" || realm.User != nil {
		return nil, fmt.Errorf("%s asks for a token and does not say where to get one", c.registry)
	}
	if realm.Scheme == "http" && c.base.Scheme == "https" {
		return nil, fmt.Errorf("%s asks for the login to be sent unencrypted to %s; that is not done", c.registry, realm.Host)
	}
	return realm, nil
}

// tokenLimit is the longest answer of a token endpoint that is read, in bytes.
const tokenLimit = 1 << 20

// The life of a token where the answer does not say (the standard's default), and the
// longest that is believed.
const (
	shortestLife = time.Minute
	longestLife  = time.Hour
)

// mostTokenScopes bounds the tokens that are kept.
const mostTokenScopes = 1024

// fetchToken gets a token for what was asked and keeps it under the scope of the request.
func (c *Client) fetchToken(ctx context.Context, asked challenge, found login.Credentials, scope string) error {
	realm, err := c.realm(asked)
	if err != nil {
		return err
	}
	wanted := asked.parts["scope"]
	if wanted == "" {
		wanted = scope
	}
	call, err := tokenRequest(ctx, realm, asked.parts["service"], strings.Fields(wanted), found)
	if err != nil {
		return err
	}
	call.Header.Set("User-Agent", c.options.UserAgent)
	ctx, dog := watch(ctx, c.options.Idle)
	defer dog.end()
	answer, err := c.http.Do(call.WithContext(ctx))
	if err != nil {
		return c.failed(ctx, realm.Host, err)
	}
	defer answer.Body.Close()
	if answer.StatusCode != http.StatusOK {
		// The credentials were for this address: what it says of them counts.
		return c.refusal(&reply{Response: answer})
	}
	var given struct {
		Token       string  `json:"token"`
		AccessToken string  `json:"access_token"`
		ExpiresIn   float64 `json:"expires_in"`
	}
	if err := json.NewDecoder(io.LimitReader(answer.Body, tokenLimit)).Decode(&given); err != nil {
		return fmt.Errorf("the token that %s gives cannot be read: %w", realm.Host, err)
	}
	token := firstOf(given.Token, given.AccessToken)
	if token == "" || strings.ContainsFunc(token, func(r rune) bool { return r < ' ' || r >= 0x7f }) {
		return oci.Errorf(oci.CodeUnauthorized, "%s answers and gives no token", realm.Host)
	}
	// It is renewed somewhat early.
	life := shortestLife
	if given.ExpiresIn > shortestLife.Seconds() {
		life = time.Duration(min(given.ExpiresIn, longestLife.Seconds()) * float64(time.Second))
	}
	c.auth.mu.Lock()
	defer c.auth.mu.Unlock()
	if c.auth.tokens == nil || len(c.auth.tokens) >= mostTokenScopes {
		c.auth.tokens = map[string]bearerToken{}
	}
	c.auth.tokens[scope] = bearerToken{token, time.Now().Add(life * 9 / 10)}
	return nil
}

// tokenRequest asks for a token: with a name and its password, or with an identity
// token, which is one for getting others (RFC 6749, section 6).
func tokenRequest(ctx context.Context, realm *url.URL, service string, scopes []string, found login.Credentials) (*http.Request, error) {
	if found.Identity {
		form := url.Values{"grant_type": {"refresh_token"}, "refresh_token": {found.Secret}, "client_id": {"warthesis"}, "service": {service}, "scope": {strings.Join(scopes, " ")}}
		call, err := http.NewRequestWithContext(ctx, http.MethodPost, realm.String(), strings.NewReader(form.Encode()))
		if err == nil {
			call.Header.Set("Content-Type", "application/x-www-form-urlencoded")
		}
		return call, err
	}
	query := realm.Query()
	if service != "" {
		query.Set("service", service)
	}
	for _, one := range scopes {
		query.Add("scope", one)
	}
	if !found.Empty() {
		query.Set("account", found.Account)
	}
	at := *realm
	at.RawQuery = query.Encode()
	call, err := http.NewRequestWithContext(ctx, http.MethodGet, at.String(), nil)
	if err == nil && !found.Empty() {
		call.SetBasicAuth(found.Account, found.Secret)
	}
	return call, err
}

func sentenceOf(err error) string {
	_, sentence, found := strings.Cut(err.Error(), "refuses: ")
	if !found {
		return err.Error()
	}
	return sentence
}
