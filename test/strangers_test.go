package test

import (
	"bufio"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"warthesis/internal/kit"
	"warthesis/internal/oci"
)

// anew is what differs between two answers to the same question.
var anew = regexp.MustCompile(`under request \S+|[0-9a-f]{10}-[0-9]+|uploads/[0-9a-f]{32}`)

// answerOf is all that a caller sees of an answer, with the repository's name taken out.
func answerOf(s *kit.Service, method, path, body, repository string, headers []string) string {
	answer, raw := s.Do(method, strings.ReplaceAll(path, "{r}", repository), strings.NewReader(strings.ReplaceAll(body, "{r}", repository)), headers...)
	answer.Header.Del("X-Request-Id")
	answer.Header.Del("Date")
	var given struct{ Token string }
	if strings.HasPrefix(path, "/api/token") && json.Unmarshal(raw, &given) == nil {
		var said struct{ Access any }
		payload, err := base64.RawURLEncoding.DecodeString(strings.Split(given.Token, ".")[1])
		if err == nil && json.Unmarshal(payload, &said) == nil {
			raw = fmt.Append(nil, said.Access)
		}
	}
	whole := fmt.Sprintf("%d %v\n%s", answer.StatusCode, answer.Header, raw)
	return anew.ReplaceAllString(strings.ReplaceAll(whole, repository, "{r}"), "")
}

// A closed repository in an open namespace is answered as one that is not there, to
// the byte, on every route and for everybody who may not know of it.
func TestAClosedRepositoryInAnOpenNamespaceLooksLikeNone(t *testing.T) {
	t.Parallel()
	s := kit.Start(t, t.TempDir())
	w := &traders{t, s}
	kit.MakeAccount(t, s, "stranger")
	kit.MakeAccount(t, s, "member")
	kit.AsAdmin(t, s, http.MethodPost, "/api/v1/namespaces", `{"name":"open","open":true}`)
	config := kit.PutBlob(t, s, "open/secret", []byte("{}"))
	manifest := kit.PutManifest(t, s, "open/secret", "kept", oci.MediaTypeImage, kit.Artifact(config, nil, "application/x", 1))
	kit.PutManifest(t, s, "open/secret", "refers", oci.MediaTypeImage, kit.Artifact(config, &manifest, "application/x", 2))
	kit.AsAdmin(t, s, http.MethodPatch, "/api/v1/repository?repository=open/secret", `{"visibility":"closed"}`)
	kit.AsAdmin(t, s, http.MethodPut, "/api/v1/roles", `{"place":"open/secret","account":"member","role":"reader"}`)
	kit.PutBlob(t, s, "open/shown", []byte("anybody may see this"))
	kit.AsAdmin(t, s, http.MethodPost, "/api/v1/namespaces", `{"name":"mine"}`)
	kit.AsAdmin(t, s, http.MethodPut, "/api/v1/roles", `{"place":"mine","account":"stranger","role":"writer"}`)

	callers := map[string][]string{"nobody": {"Authorization", ""}, "a stranger": kit.Basic("stranger", kit.MemberPassword)}
	for name, scope := range map[string]string{"one for all": "*", "one elsewhere": "mine/*"} {
		secret := struct{ Secret string }{}
		require.NoError(t, json.Unmarshal(kit.AsAdmin(t, s, http.MethodPost, "/api/v1/tokens",
			`{"account":"stranger","name":"`+name+`","scopes":[{"pattern":"`+scope+`","actions":["pull","push","delete","manage"]}]}`), &secret))
		callers["a stranger by a token, "+name] = kit.Basic("stranger", secret.Secret)
	}
	routes := []struct{ method, path, body string }{
		{"GET", "/v2/{r}/manifests/kept", ""}, {"HEAD", "/v2/{r}/manifests/kept", ""}, {"GET", "/v2/{r}/manifests/" + manifest.Digest.String(), ""},
		{"GET", "/v2/{r}/blobs/" + config.String(), ""}, {"HEAD", "/v2/{r}/blobs/" + config.String(), ""}, {"GET", "/v2/{r}/tags/list", ""}, {"GET", "/v2/{r}/tags/list?n=0", ""},
		{"GET", "/v2/{r}/referrers/" + manifest.Digest.String(), ""}, {"POST", "/v2/{r}/blobs/uploads/", ""}, {"POST", "/v2/{r}/blobs/uploads/?digest=" + config.String(), "{}"},
		{"POST", "/v2/{r}/blobs/uploads/?mount=" + config.String() + "&from=open/shown", ""}, {"GET", "/v2/{r}/blobs/uploads/0123", ""}, {"PATCH", "/v2/{r}/blobs/uploads/0123", "x"},
		{"PUT", "/v2/{r}/blobs/uploads/0123?digest=" + config.String(), ""}, {"DELETE", "/v2/{r}/blobs/uploads/0123", ""}, {"PUT", "/v2/{r}/manifests/kept", "{}"},
		{"DELETE", "/v2/{r}/manifests/kept", ""}, {"DELETE", "/v2/{r}/manifests/" + manifest.Digest.String(), ""}, {"DELETE", "/v2/{r}/blobs/" + config.String(), ""},
		{"POST", "/v2/mine/app/blobs/uploads/?mount=" + config.String() + "&from={r}", ""},
		{"GET", "/api/token?scope=repository:{r}:pull,push,delete", ""}, {"GET", "/api/v1/repository?repository={r}", ""}, {"GET", "/api/v1/tags?repository={r}", ""},
		{"GET", "/api/v1/next-version?repository={r}", ""}, {"POST", "/api/v1/next-version?repository={r}", ""}, {"GET", "/api/v1/tag-log?repository={r}", ""}, {"POST", "/api/v1/tags?repository={r}", `{"changes":[{"act":"move","tag":"kept","to":"kept"}]}`},
		{"POST", "/api/v1/tags?repository={r}", `{"changes":[{"act":"rename","tag":"kept","name":"lost"}]}`},
		{"DELETE", "/api/v1/image?repository={r}&digest=" + manifest.Digest.String(), ""}, {"GET", "/api/v1/removal-plan?repository={r}&reference=kept", ""},
		{"GET", "/api/v1/removal-plan?repository={r}", ""}, {"GET", "/api/v1/removals?place={r}", ""}, {"POST", "/api/v1/seal?repository={r}", `{"tag":"kept","seal":true,"reason":"x"}`},
		{"POST", "/api/v1/seal?repository={r}", `{"tag":"kept","seal":false,"reason":"x"}`}, {"GET", "/api/v1/rules?place={r}", ""}, {"GET", "/api/v1/rules/explain?repository={r}&tag=kept", ""},
		{"PUT", "/api/v1/rules?place={r}", `{"words":"","reason":"x"}`}, {"DELETE", "/api/v1/rules?place={r}&reason=x", ""}, {"POST", "/api/v1/rules/preview?place={r}", `{"words":""}`},
		{"GET", "/api/v1/image?repository={r}&reference=kept", ""}, {"GET", "/api/v1/verdict?repository={r}&action=pull", ""}, {"GET", "/api/v1/verdict?repository={r}&action=push", ""},
		{"GET", "/api/v1/verdict?repository={r}&action=delete", ""}, {"GET", "/api/v1/verdict?repository={r}&action=manage", ""}, {"GET", "/api/v1/roles?place={r}", ""},
		{"PATCH", "/api/v1/repository?repository={r}", `{"description":"x"}`}, {"DELETE", "/api/v1/repository?repository={r}", ""}, {"POST", "/api/v1/repository/restore?repository={r}", ""},
		{"POST", "/api/v1/repositories", `{"name":"{r}"}`}, {"PUT", "/api/v1/roles", `{"place":"{r}","account":"stranger","role":"reader"}`},
		{"DELETE", "/api/v1/roles?place={r}&account=member", ""}, {"GET", "/api/v1/audit?repository={r}", ""}, {"GET", "/api/v1/find?q={r}:kept", ""}, {"GET", "/api/v1/find?q={r}", ""},
	}
	for name, headers := range callers {
		for _, r := range routes {
			asked := append([]string{"Content-Type", "application/json"}, headers...)
			there := answerOf(s, r.method, r.path, r.body, "open/secret", asked)
			assert.Equal(t, answerOf(s, r.method, r.path, r.body, "open/nothin", asked), there, "%s: %s %s", name, r.method, r.path)
			if !strings.HasPrefix(r.path, "/v2/{r}") {
				continue
			}
			// By a bearer token that was asked for it, as clients do.
			code, m := w.ask(credential{headers: headers}, http.MethodGet, "/api/token?"+url.Values{"scope": {"repository:open/secret:pull,push", "repository:open/nothin:pull,push"}}.Encode(), "")
			require.Equal(t, http.StatusOK, code)
			there = answerOf(s, r.method, r.path, r.body, "open/secret", kit.Bearer(m.Token))
			assert.Equal(t, answerOf(s, r.method, r.path, r.body, "open/nothin", kit.Bearer(m.Token)), there, "%s by a bearer token: %s %s", name, r.method, r.path)
		}
		for _, list := range []string{"/v2/_catalog", "/api/v1/repositories", "/api/v1/find?q=" + config.Encoded(), "/api/v1/find?q=" + manifest.Digest.String()[:20], "/api/v1/removed"} {
			_, raw := s.Do(http.MethodGet, list, nil, headers...)
			assert.NotContains(t, string(raw), "secret", "%s: %s", name, list)
		}
	}
	sums := func(headers ...string) (n struct{ Repositories, Size int64 }) {
		answer, raw := s.Do(http.MethodGet, "/api/v1/namespaces/open", nil, headers...)
		require.Equal(t, http.StatusOK, answer.StatusCode, "%s", raw)
		require.NoError(t, json.Unmarshal(raw, &n))
		return n
	}
	assert.EqualValues(t, 1, sums(callers["nobody"]...).Repositories)
	assert.EqualValues(t, len("anybody may see this"), sums(callers["a stranger"]...).Size)
	assert.EqualValues(t, 2, sums(kit.Basic("member", kit.MemberPassword)...).Repositories, "who may pull counts it")
	assert.EqualValues(t, 2, sums().Repositories)
	_, raw := s.Do(http.MethodGet, "/v2/_catalog", nil, kit.Basic("member", kit.MemberPassword)...)
	assert.Contains(t, string(raw), "open/secret")
}

// stream follows what happens, as somebody.
type stream struct {
	lines chan string
	close func()
}

func follow(t *testing.T, s *kit.Service, headers ...string) *stream {
	request, err := http.NewRequest(http.MethodGet, s.URL("/api/v1/changes"), nil)
	require.NoError(t, err)
	for i := 0; i+1 < len(headers); i += 2 {
		if headers[i+1] != "" {
			request.Header.Set(headers[i], headers[i+1])
		}
	}
	answer, err := http.DefaultClient.Do(request)
	require.NoError(t, err)
	require.Equal(t, http.StatusOK, answer.StatusCode)
	f := &stream{make(chan string, 1000), func() { answer.Body.Close() }}
	t.Cleanup(f.close)
	go func() {
		defer close(f.lines)
		for scanner := bufio.NewScanner(answer.Body); scanner.Scan(); {
			f.lines <- scanner.Text()
		}
	}()
	<-f.lines
	return f
}

// until returns what a stream says up to a word that must come, or its end.
func (f *stream) until(word string) string {
	var said strings.Builder
	for line := range f.lines {
		said.WriteString(line + "\n")
		if strings.Contains(line, word) {
			break
		}
	}
	return said.String()
}

// Streams ask again at each event, tell nobody of what may not be known, and end
// with their credential.
func TestStreamsTellNobodyMoreThanListsDo(t *testing.T) {
	t.Parallel()
	s := kit.Start(t, t.TempDir())
	w := &traders{t, s}
	kit.MakeAccount(t, s, "stranger")
	kit.MakeAccount(t, s, "other")
	kit.MakeAccount(t, s, "demoted")
	kit.AsAdmin(t, s, http.MethodPatch, "/api/v1/accounts/demoted", `{"admin":true}`)
	kit.AsAdmin(t, s, http.MethodPost, "/api/v1/namespaces", `{"name":"open","open":true}`)
	kit.AsAdmin(t, s, http.MethodPost, "/api/v1/repositories", `{"name":"open/secret","visibility":"closed"}`)
	kit.AsAdmin(t, s, http.MethodPost, "/api/v1/repositories", `{"name":"open/shown"}`)
	_, day := w.ask(credential{headers: kit.Basic("stranger", kit.MemberPassword)}, http.MethodPost, "/api/v1/tokens", `{"name":"day","days":1,"scopes":[{"pattern":"*","actions":["pull","manage"]}]}`)
	nobody, stranger, demoted := follow(t, s, "Authorization", ""), follow(t, s, kit.Basic("stranger", kit.MemberPassword)...), follow(t, s, kit.Basic("demoted", kit.MemberPassword)...)
	revoked := follow(t, s, kit.Bearer(day.Secret)...)

	kit.AsAdmin(t, s, http.MethodPatch, "/api/v1/accounts/demoted", `{"admin":false}`)
	kit.AsAdmin(t, s, http.MethodDelete, "/api/v1/tokens/day?account=stranger", "")
	kit.AsAdmin(t, s, http.MethodPost, "/api/v1/repositories", `{"name":"open/hidden","visibility":"closed"}`)
	kit.PutBlob(t, s, "open/secret", []byte("{}"))
	kit.AsAdmin(t, s, http.MethodPatch, "/api/v1/repository?repository=open/secret", `{"rename":"open/renamed-secret"}`)
	kit.AsAdmin(t, s, http.MethodDelete, "/api/v1/repository?repository=open/renamed-secret", "")
	kit.AsAdmin(t, s, http.MethodPost, "/api/v1/repository/restore?repository=open/renamed-secret", "")
	kit.AsAdmin(t, s, http.MethodPut, "/api/v1/roles", `{"place":"open/shown","account":"other","role":"reader"}`)
	kit.AsAdmin(t, s, http.MethodDelete, "/api/v1/roles?place=open/shown&account=other", "")
	kit.AsAdmin(t, s, http.MethodPatch, "/api/v1/repository?repository=open/shown", `{"description":"of the settings"}`)
	config := kit.PutBlob(t, s, "open/shown", []byte("{}"))
	kit.PutManifest(t, s, "open/shown", "last", oci.MediaTypeImage, kit.Artifact(config, nil, "application/x", 1))
	for who, f := range map[string]*stream{"nobody": nobody, "a stranger": stranger, "a demoted admin": demoted} {
		said := f.until(`"tag":"last"`)
		assert.Contains(t, said, `"tag":"last"`, who)
		for _, word := range []string{"secret", "hidden", "role-", "repository-changed"} {
			assert.NotContains(t, said, word, who)
		}
	}
	assert.NotContains(t, revoked.until(`"tag":"last"`), "last", "a stream ends with its credential")
}

// What a name meant belongs to the row and not to the name.
func TestWhoTakesANameReadsNothingOfTheOneBefore(t *testing.T) {
	t.Parallel()
	s := kit.Start(t, t.TempDir())
	kit.MakeAccount(t, s, "early")
	kit.MakeAccount(t, s, "late")
	kit.AsAdmin(t, s, http.MethodPost, "/api/v1/teams", `{"name":"berths","owners":["early"]}`)
	kit.AsAdmin(t, s, http.MethodPost, "/api/v1/namespaces", `{"name":"elsewhere"}`)
	kit.AsAdmin(t, s, http.MethodPut, "/api/v1/roles", `{"place":"elsewhere","account":"early","role":"curator"}`)
	kit.PutBlob(t, s, "berths/plans-of-before", []byte("{}"))
	kit.AsAdmin(t, s, http.MethodPatch, "/api/v1/repository?repository=berths/plans-of-before", `{"description":"x"}`)
	kit.AsAdmin(t, s, http.MethodDelete, "/api/v1/repository?repository=berths/plans-of-before", "")
	early, late := kit.Basic("early", kit.MemberPassword), kit.Basic("late", kit.MemberPassword)
	_, raw := s.Do(http.MethodGet, "/api/v1/audit?namespace=berths", nil, early...)
	assert.Contains(t, string(raw), "plans-of-before")
	_, raw = s.Do(http.MethodGet, "/api/v1/removed", nil, early...)
	assert.Contains(t, string(raw), "plans-of-before")
	kit.AsAdmin(t, s, http.MethodDelete, "/api/v1/namespaces/berths", "")
	kit.AsAdmin(t, s, http.MethodPost, "/api/v1/namespaces", `{"name":"berths"}`)
	kit.AsAdmin(t, s, http.MethodPut, "/api/v1/roles", `{"place":"berths","account":"late","role":"owner"}`)
	for _, path := range []string{"/api/v1/audit?namespace=berths", "/api/v1/audit?repository=berths/plans-of-before", "/api/v1/audit/lines?namespace=berths", "/api/v1/removed"} {
		answer, raw := s.Do(http.MethodGet, path, nil, late...)
		require.Equal(t, http.StatusOK, answer.StatusCode, "%s: %s", path, raw)
		assert.NotContains(t, string(raw), "plans-of-before", path)
	}
	answer, raw := s.Do(http.MethodPost, "/api/v1/repository/restore?repository=berths/plans-of-before", nil, late...)
	assert.Equal(t, http.StatusNotFound, answer.StatusCode, "%s", raw)
	_, raw = s.Do(http.MethodGet, "/api/v1/audit?namespace=berths", nil)
	assert.NotContains(t, string(raw), "plans-of-before", "an auditor asks by what the name means as well")
	_, raw = s.Do(http.MethodGet, "/api/v1/audit?repository=berths/plans-of-before", nil)
	assert.NotContains(t, string(raw), `"detail":"description"`)

	// An owner sees the roles of others where it is owner, and nowhere else.
	_, raw = s.Do(http.MethodGet, "/api/v1/accounts/early/roles", nil, late...)
	assert.JSONEq(t, `[]`, rolesIn(t, raw))
	_, raw = s.Do(http.MethodGet, "/api/v1/accounts/early/roles", nil, early...)
	assert.Contains(t, string(raw), `"elsewhere"`)
}

func rolesIn(t *testing.T, raw []byte) string {
	var list struct{ Roles json.RawMessage }
	require.NoError(t, json.Unmarshal(raw, &list), "%s", raw)
	return string(list.Roles)
}

// After the company's login the browser stays in the console.
func TestNobodyIsLedElsewhereByALogin(t *testing.T) {
	issuer := kit.StartIssuer(t)
	s := kit.Start(t, t.TempDir(), "--company-issuer", issuer.URL, "--company-client", kit.IssuerClient)
	issuer.Is(map[string]any{"sub": "4711", "preferred_username": "jun"})
	for to, ends := range map[string]string{
		"/%09/evil.example/": "/", "/%0a/evil.example": "/", "/%5cevil.example": "/", "//evil.example": "/", "https://evil.example": "/", "javascript:alert(1)": "/",
		"": "/", "me": "/", "/%20/evil.example": "/", "/r/berths/seatmap?sort=name": "/r/berths/seatmap?sort=name", "/find?q=a%2526b": "/find?q=a%26b",
	} {
		jar, err := cookiejar.New(nil)
		require.NoError(t, err)
		last := ""
		browser := &http.Client{Jar: jar, CheckRedirect: func(r *http.Request, _ []*http.Request) error {
			if !strings.HasPrefix(r.URL.String(), issuer.URL) && r.URL.Path != "/api/company/end" {
				last = r.Response.Header.Get("Location")
				return http.ErrUseLastResponse
			}
			return nil
		}}
		answer, err := browser.Get(s.URL("/api/company/begin?to=" + to))
		require.NoError(t, err)
		answer.Body.Close()
		assert.Equal(t, ends, last, to)
	}
	// A thousand that begin and never end keep nobody out.
	for range 1200 {
		answer, _ := s.Do(http.MethodGet, "/api/v1/service", nil)
		require.Equal(t, http.StatusOK, answer.StatusCode)
		plain := &http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
		answer, err := plain.Get(s.URL("/api/company/begin"))
		require.NoError(t, err)
		answer.Body.Close()
		require.Contains(t, answer.Header.Get("Location"), issuer.URL)
	}
	// A login that was used is used up, and another browser's is no login.
	jar, err := cookiejar.New(nil)
	require.NoError(t, err)
	var end *url.URL
	browser := &http.Client{Jar: jar, CheckRedirect: func(r *http.Request, _ []*http.Request) error {
		if r.URL.Path == "/api/company/end" {
			end = r.URL
		}
		return nil
	}}
	answer, err := browser.Get(s.URL("/api/company/begin?to=/me"))
	require.NoError(t, err)
	answer.Body.Close()
	require.Equal(t, "/me", answer.Request.URL.Path)
	for _, again := range []*http.Client{browser, {}} {
		answer, err := again.Get(end.String())
		require.NoError(t, err)
		answer.Body.Close()
		assert.Equal(t, "/sign-in", answer.Request.URL.Path)
	}
}
