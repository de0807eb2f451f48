package test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"warthesis/internal/kit"
)

// credential is something by which one comes, as an Authorization or a cookie.
type credential struct {
	name    string
	headers []string
	// ends is when it ends; zero for never.
	ends time.Time
}

// traders asks a service for credentials by credentials.
type traders struct {
	t *testing.T
	s *kit.Service
}

// made is what is said of a new credential.
type made struct {
	ID        int64
	Secret    string
	Token     string
	EndsAt    time.Time `json:"ends_at"`
	ExpiresIn int       `json:"expires_in"`
	IssuedAt  time.Time `json:"issued_at"`
}

func (w *traders) ask(by credential, method, path, body string) (int, made) {
	answer, raw := w.s.Do(method, path, strings.NewReader(body), append([]string{"Content-Type", "application/json", "Authorization", ""}, by.headers...)...)
	var m made
	_ = json.Unmarshal(raw, &m)
	if m.ExpiresIn > 0 {
		m.EndsAt = m.IssuedAt.Add(time.Duration(m.ExpiresIn) * time.Second)
	}
	return answer.StatusCode, m
}

// signIn opens a console session by a password, or by what goes in its place.
func (w *traders) signIn(account, secret string) (credential, bool) {
	answer, _ := w.s.Do(http.MethodPost, "/api/v1/session", strings.NewReader(fmt.Sprintf(`{"account":%q,"password":%q}`, account, secret)),
		"Content-Type", "application/json", "Authorization", "")
	for _, cookie := range answer.Cookies() {
		return credential{"session", []string{"Authorization", "", "Cookie", cookie.Name + "=" + cookie.Value}, time.Now().Add(time.Duration(cookie.MaxAge) * time.Second)}, true
	}
	return credential{}, false
}

// secretOf is what a credential says in place of a password.
func secretOf(c credential) string { return strings.TrimPrefix(c.headers[1], "Bearer ") }

// good reports whether a credential still says who it is.
func (w *traders) good(c credential) bool {
	_, raw := w.s.Do(http.MethodGet, "/api/v1/me", nil, append([]string{"Authorization", ""}, c.headers...)...)
	return strings.Contains(string(raw), `"account":`)
}

// Whatever a credential is traded for ends no later than it, and with it: a token of
// a day, a session, a login, a short token, a bearer token, an identity.
func TestNoCredentialIsWorthMoreThanTheOneItCameFrom(t *testing.T) {
	t.Parallel()
	issuer := kit.StartIssuer(t)
	s := kit.Start(t, t.TempDir(), "--inside-networks", "127.0.0.0/8")
	w := &traders{t, s}
	kit.AsAdmin(t, s, http.MethodPost, "/api/v1/accounts", `{"name":"robot","kind":"machine"}`)
	kit.MakeAccount(t, s, "ines")
	kit.AsAdmin(t, s, http.MethodPatch, "/api/v1/accounts/ines", `{"admin":true}`)
	identityRule := `{"name":"builds","issuer":"` + issuer.URL + `","audience":"warthesis","subject":"*","account":"robot"}`
	kit.AsAdmin(t, s, http.MethodPost, "/api/v1/identity-rules", identityRule)
	password := credential{"password", kit.Basic("ines", kit.MemberPassword), time.Time{}}

	// fresh makes a credential of each kind anew, and says how it is taken back.
	token := func(by credential, body string) (credential, func()) {
		code, m := w.ask(by, http.MethodPost, "/api/v1/tokens", body)
		require.Equal(t, http.StatusOK, code, body)
		return credential{"token", kit.Bearer(m.Secret), m.EndsAt}, func() {
			code, _ := w.ask(password, http.MethodDelete, fmt.Sprintf("/api/v1/tokens/%d", m.ID), "")
			require.Equal(t, http.StatusNoContent, code)
		}
	}
	kinds := map[string]func() (credential, func()){
		"a token of one day": func() (credential, func()) {
			return token(password, `{"name":"day","days":1,"scopes":[{"pattern":"*","actions":["pull","push","delete","manage"]}]}`)
		},
		"a login": func() (credential, func()) { return token(password, `{"name":"laptop","days":90,"login":true}`) },
		"a session": func() (credential, func()) {
			c, ok := w.signIn("ines", kit.MemberPassword)
			require.True(t, ok)
			var list struct{ Tokens []struct{ ID int64 } }
			_, raw := s.Do(http.MethodGet, "/api/v1/tokens?sessions=true", nil, password.headers...)
			require.NoError(t, json.Unmarshal(raw, &list))
			return c, func() { w.ask(password, http.MethodDelete, fmt.Sprintf("/api/v1/tokens/%d", list.Tokens[0].ID), "") }
		},
		"an identity": func() (credential, func()) {
			answer, raw := s.Do(http.MethodPost, "/api/v1/identity", strings.NewReader(`{"identity":"`+issuer.Sign("warthesis", "x", nil)+`"}`),
				"Content-Type", "application/json", "Authorization", "")
			require.Equal(t, http.StatusOK, answer.StatusCode, "%s", raw)
			var m made
			require.NoError(t, json.Unmarshal(raw, &m))
			return credential{"identity", kit.Bearer(m.Secret), m.EndsAt}, func() {
				kit.AsAdmin(t, s, http.MethodDelete, "/api/v1/identity-rules/builds", "")
				kit.AsAdmin(t, s, http.MethodPost, "/api/v1/identity-rules", identityRule)
			}
		},
	}
	const everyday = `[{"pattern":"*","actions":["pull"]}]`
	trades := map[string]func(credential) (credential, bool){
		"a token without end": func(c credential) (credential, bool) {
			code, m := w.ask(c, http.MethodPost, "/api/v1/tokens", `{"name":"for ever","scopes":`+everyday+`}`)
			return credential{"", kit.Bearer(m.Secret), m.EndsAt}, code == http.StatusOK
		},
		"a login": func(c credential) (credential, bool) {
			code, m := w.ask(c, http.MethodPost, "/api/v1/tokens", `{"name":"login","login":true,"days":90}`)
			return credential{"", kit.Bearer(m.Secret), m.EndsAt}, code == http.StatusOK
		},
		"a short token": func(c credential) (credential, bool) {
			code, m := w.ask(c, http.MethodPost, "/api/v1/tokens/short", "")
			return credential{"", kit.Bearer(m.Secret), m.EndsAt}, code == http.StatusOK
		},
		"a bearer token": func(c credential) (credential, bool) {
			code, m := w.ask(c, http.MethodGet, "/api/token?"+url.Values{"scope": {"registry:catalog:*"}}.Encode(), "")
			return credential{"", kit.Bearer(m.Token), m.EndsAt}, code == http.StatusOK
		},
		"a session": func(c credential) (credential, bool) {
			for _, account := range []string{"ines", "robot"} {
				if got, ok := w.signIn(account, secretOf(c)); ok {
					return got, true
				}
			}
			return credential{}, false
		},
	}
	for says, fresh := range kinds {
		for what, trade := range trades {
			root, takeBack := fresh()
			got, ok := trade(root)
			if !ok || says == "a session" && what == "a bearer token" {
				// A session is the console's alone: elsewhere its cookie is nobody's.
				takeBack()
				continue
			}
			// What was got is traded once more.
			chain := []credential{got}
			for _, again := range trades {
				if further, ok := again(got); ok {
					chain = append(chain, further)
				}
			}
			for _, c := range chain {
				assert.False(t, c.ends.IsZero(), "%s from %s has an end", what, says)
				assert.False(t, c.ends.After(root.ends.Add(2*time.Second)), "%s from %s ends at %s, and what it came from at %s", what, says, c.ends, root.ends)
			}
			takeBack()
			for _, c := range chain {
				assert.False(t, w.good(c), "%s from %s ends with it", what, says)
			}
		}
	}

	// The password itself, with the request, is the one thing that makes what lasts.
	session, _ := w.signIn("ines", kit.MemberPassword)
	code, m := w.ask(session, http.MethodPost, "/api/v1/tokens", `{"name":"x","days":365,"password":"`+kit.MemberPassword+`","scopes":`+everyday+`}`)
	assert.Equal(t, http.StatusOK, code)
	assert.Greater(t, time.Until(m.EndsAt), 364*24*time.Hour)
	code, _ = w.ask(session, http.MethodPost, "/api/v1/tokens", `{"name":"y","password":"a wrong password","scopes":`+everyday+`}`)
	assert.Equal(t, http.StatusForbidden, code)
	// Whoever signs out in good order keeps what was made by hand meanwhile.
	_, kept := w.ask(session, http.MethodPost, "/api/v1/tokens", `{"name":"kept","scopes":`+everyday+`}`)
	code, _ = w.ask(session, http.MethodDelete, "/api/v1/session", "")
	require.Less(t, code, 300)
	assert.True(t, w.good(credential{headers: kit.Bearer(kept.Secret)}))
}

// A bearer token gives at most what it has; a password is proved by nothing else; a
// narrow token replaces no wide one.
func TestWhatIsNarrowStaysNarrow(t *testing.T) {
	t.Parallel()
	s := kit.Start(t, t.TempDir())
	w := &traders{t, s}
	kit.MakeAccount(t, s, "marit")
	for _, place := range []string{"berths", "timetable"} {
		kit.AsAdmin(t, s, http.MethodPost, "/api/v1/namespaces", `{"name":"`+place+`"}`)
		kit.AsAdmin(t, s, http.MethodPut, "/api/v1/roles", `{"place":"`+place+`","account":"marit","role":"owner"}`)
	}
	secret := kit.PutBlob(t, s, "timetable/board", []byte("of the boards"))
	kit.PutBlob(t, s, "berths/seatmap", []byte("of the map"))
	password := credential{headers: kit.Basic("marit", kit.MemberPassword)}
	bearerFor := func(by credential, scope ...string) credential {
		code, m := w.ask(by, http.MethodGet, "/api/token?"+url.Values{"scope": scope}.Encode(), "")
		require.Equal(t, http.StatusOK, code)
		return credential{headers: kit.Bearer(m.Token), ends: m.EndsAt}
	}
	status := func(by credential, method, path string) int {
		answer, _ := s.Do(method, path, nil, append([]string{"Authorization", ""}, by.headers...)...)
		return answer.StatusCode
	}
	narrow := bearerFor(password, "repository:berths/seatmap:pull,push")
	traded := bearerFor(narrow, "repository:timetable/board:pull", "repository:berths/seatmap:pull,push,delete", "registry:catalog:*")
	assert.Equal(t, http.StatusUnauthorized, status(traded, http.MethodGet, "/v2/timetable/board/blobs/"+secret.String()))
	assert.Equal(t, http.StatusUnauthorized, status(traded, http.MethodGet, "/v2/_catalog"))
	assert.Equal(t, http.StatusOK, status(traded, http.MethodGet, "/v2/berths/seatmap/tags/list"))
	assert.Equal(t, narrow.ends, traded.ends, "the first end stays")
	assert.Equal(t, http.StatusAccepted, status(narrow, http.MethodPost, "/v2/berths/seatmap/blobs/uploads/?mount="+secret.String()), "it mounts from nowhere else")
	_, raw := s.Do(http.MethodGet, "/api/v1/repositories", nil, narrow.headers...)
	assert.NotContains(t, string(raw), "timetable", "and lists nothing else")

	_, short := w.ask(password, http.MethodPost, "/api/v1/tokens/short", "")
	session, _ := w.signIn("marit", kit.MemberPassword)
	for _, by := range []credential{{headers: kit.Bearer(short.Secret)}, session} {
		// Few enough that no wrong one has to wait.
		for _, current := range []string{short.Secret, ""} {
			code, _ := w.ask(by, http.MethodPut, "/api/v1/accounts/marit/password", fmt.Sprintf(`{"current":%q,"password":"taken over by somebody"}`, current))
			assert.Equal(t, http.StatusForbidden, code, "only the password proves the password")
		}
	}

	_, login := w.ask(password, http.MethodPost, "/api/v1/tokens", `{"name":"laptop","login":true}`)
	_, manage := w.ask(password, http.MethodPost, "/api/v1/tokens", `{"name":"narrow","days":1,"scopes":[{"pattern":"*","actions":["manage"]},{"pattern":"berths/*","actions":["pull"]}]}`)
	_, wide := w.ask(password, http.MethodPost, "/api/v1/tokens", `{"name":"wide","scopes":[{"pattern":"*","actions":["pull"]}]}`)
	_, fits := w.ask(password, http.MethodPost, "/api/v1/tokens", `{"name":"fits","scopes":[{"pattern":"berths/seatmap","actions":["pull"]}]}`)
	by := credential{headers: kit.Bearer(manage.Secret)}
	for _, id := range []int64{login.ID, wide.ID} {
		code, _ := w.ask(by, http.MethodPost, fmt.Sprintf("/api/v1/tokens/%d/replace", id), "{}")
		assert.Equal(t, http.StatusForbidden, code)
	}
	code, replaced := w.ask(by, http.MethodPost, fmt.Sprintf("/api/v1/tokens/%d/replace", fits.ID), "{}")
	require.Equal(t, http.StatusOK, code)
	assert.Less(t, time.Until(replaced.EndsAt), 25*time.Hour, "what a token of a day makes ends within the day")

	// whoami says what this login may do.
	_, raw = s.Do(http.MethodGet, "/api/v1/me", nil, by.headers...)
	var me struct {
		Roles []any
		May   []struct {
			Pattern string
			Actions []string
		}
	}
	require.NoError(t, json.Unmarshal(raw, &me))
	assert.Empty(t, me.Roles)
	said := fmt.Sprint(me.May)
	assert.Contains(t, said, "{berths/* [pull manage]}")
	assert.Contains(t, said, "{timetable/* [manage]}")

	// A token with scopes makes no account that could more, and no password.
	kit.AsAdmin(t, s, http.MethodPatch, "/api/v1/accounts/marit", `{"admin":true}`)
	for _, c := range []struct{ method, path, body string }{
		{"POST", "/api/v1/accounts", `{"name":"evil","admin":true}`}, {"POST", "/api/v1/accounts", `{"name":"evil","password":"a long password indeed"}`},
		{"PUT", "/api/v1/accounts/admin/password", `{"password":"a long password indeed"}`}, {"PATCH", "/api/v1/accounts/admin", `{"admin":true}`},
		{"POST", "/api/v1/identity-rules", `{"name":"evil","issuer":"https://evil.example","audience":"x","subject":"*","account":"marit"}`},
	} {
		code, _ := w.ask(by, c.method, c.path, c.body)
		assert.Equal(t, http.StatusForbidden, code, c.path+c.body)
	}
}
