package peer

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"regexp"
	"strings"
	"sync"
	"time"

	"warthesis/internal/login"
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
	preparing sync.Mutex
	asked     bool
	challenge *challenge
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
	if a.basic {
		return basicHeader(a.found)
	}
	for _, one := range []string{scope, scope + ",push"} {
		if t, ok := a.tokens[one]; ok && time.Now().Before(t.until) {
			return "Bearer " + t.token
		}
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
		if challenges := readChallenges(answer.Header.Values("WWW-Authenticate")); answer.StatusCode == http.StatusUnauthorized && len(challenges) > 0 {
			c.auth.challenge = &challenges[0]
		}
	}
	if c.auth.challenge == nil {
		return nil
	}
	_, err := c.answerChallenge(ctx, *c.auth.challenge, scope)
	return err
}

func basicHeader(c login.Credentials) string {
	r := http.Request{Header: http.Header{}}
	r.SetBasicAuth(c.Account, c.Secret)
	return r.Header.Get("Authorization")
}

// scopeOf names what a request wants a token for.
func scopeOf(r request) string {
	path := r.path
	if r.at != nil {
		// An address that was put together has no slash before its path.
		_, path, _ = strings.Cut("/"+r.at.Path, "/v2/")
	}
	for _, word := range []string{"/blobs/", "/manifests/", "/tags/", "/referrers/"} {
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

var challengePart = regexp.MustCompile(`([a-zA-Z_]+)="([^"]*)"`)

// challenge is what a registry asks for (RFC 9110, section 11.6.1).
type challenge struct {
	scheme string
	parts  map[string]string
}

func readChallenges(header []string) []challenge {
	var all []challenge
	for _, line := range header {
		scheme, rest, _ := strings.Cut(strings.TrimSpace(line), " ")
		c := challenge{strings.ToLower(scheme), map[string]string{}}
		for _, m := range challengePart.FindAllStringSubmatch(rest, 32) {
			c.parts[strings.ToLower(m[1])] = m[2]
		}
		all = append(all, c)
	}
	return all
}

// authorize answers the challenges of a refusal: it returns whether the request is
// worth another try.
func (c *Client) authorize(ctx context.Context, answer *http.Response, scope string) (bool, error) {
	for _, asked := range readChallenges(answer.Header.Values("WWW-Authenticate")) {
		if again, err := c.answerChallenge(ctx, asked, scope); again || err != nil {
			return again, err
		}
	}
	return false, nil
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
	case asked.scheme == "basic" && !found.Empty():
		c.auth.mu.Lock()
		defer c.auth.mu.Unlock()
		again := !c.auth.basic
		c.auth.basic = true
		return again, nil
	}
	return false, nil
}

// tokenLimit is the longest answer of a token endpoint that is read, in bytes.
const tokenLimit = 1 << 20

// fetchToken gets a token for what was asked and keeps it under the scope of the request.
func (c *Client) fetchToken(ctx context.Context, asked challenge, found login.Credentials, scope string) error {
	realm, err := url.Parse(asked.parts["realm"])
	if err != nil || realm.Host == "" || realm.Scheme != "https" && realm.Scheme != "http" {
		return fmt.Errorf("%s asks for a token and does not say where to get one", c.registry)
	}
	if realm.Scheme == "http" && c.base.Scheme == "https" {
		return fmt.Errorf("%s asks for the login to be sent unencrypted to %s; that is not done", c.registry, realm.Host)
	}
	query := realm.Query()
	if service := asked.parts["service"]; service != "" {
		query.Set("service", service)
	}
	wanted := asked.parts["scope"]
	if wanted == "" {
		wanted = scope
	}
	for _, one := range strings.Fields(wanted) {
		query.Add("scope", one)
	}
	if !found.Empty() {
		query.Set("account", found.Account)
	}
	realm.RawQuery = query.Encode()
	call, err := http.NewRequestWithContext(ctx, http.MethodGet, realm.String(), nil)
	if err != nil {
		return err
	}
	call.Header.Set("User-Agent", c.options.UserAgent)
	if !found.Empty() {
		call.SetBasicAuth(found.Account, found.Secret)
	}
	answer, err := c.http.Do(call)
	if err != nil {
		return c.unreachable(err)
	}
	defer answer.Body.Close()
	if answer.StatusCode != http.StatusOK {
		return c.refusal(answer)
	}
	var given struct {
		Token       string `json:"token"`
		AccessToken string `json:"access_token"`
		ExpiresIn   int    `json:"expires_in"`
	}
	if err := json.NewDecoder(io.LimitReader(answer.Body, tokenLimit)).Decode(&given); err != nil {
		return fmt.Errorf("the token that %s gives cannot be read: %w", realm.Host, err)
	}
	// The standard's default is a minute; the token is renewed somewhat early.
	life := max(60, given.ExpiresIn)
	c.auth.mu.Lock()
	defer c.auth.mu.Unlock()
	if c.auth.tokens == nil {
		c.auth.tokens = map[string]bearerToken{}
	}
	c.auth.tokens[scope] = bearerToken{firstOf(given.Token, given.AccessToken), time.Now().Add(time.Duration(life) * time.Second * 9 / 10)}
	return nil
}

func sentenceOf(err error) string {
	_, sentence, found := strings.Cut(err.Error(), "refuses: ")
	if !found {
		return err.Error()
	}
	return sentence
}
