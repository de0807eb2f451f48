package client

import (
	"encoding/json"
	"net/http"
	"net/http/cookiejar"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"warthesis/internal/kit"
)

// me asks who a client of the console is.
func me(t *testing.T, s *kit.Service, client *http.Client) (who struct {
	Account string
	Groups  []string
}) {
	answer, err := client.Get(s.URL("/api/v1/me"))
	require.NoError(t, err)
	defer answer.Body.Close()
	require.NoError(t, json.NewDecoder(answer.Body).Decode(&who))
	return who
}

// With a login of its own for each test, nothing of one is left to another.
func TestALoginKeepsATokenAndEndsWithTheLogout(t *testing.T) {
	s := kit.Start(t, t.TempDir())
	kit.MakeAccount(t, s, "marit")
	kit.AsAdmin(t, s, http.MethodPost, "/api/v1/teams", `{"name":"berths","owners":["marit"]}`)
	kit.OwnClient(t)
	layout := kit.NewImage(t, kit.Bytes(60, 1000)).Layout(t)

	r := kit.RunWith(t, kit.MemberPassword+"\n", "login", s.Address, "--account", "marit", "--from-stdin")
	require.Equal(t, 0, r.Code, r.Err)
	raw, err := os.ReadFile(os.Getenv("WARTHESIS_CLIENT_LOGIN_FILE"))
	require.NoError(t, err)
	assert.NotContains(t, string(raw), "password", "the password is not kept")
	assert.Contains(t, kit.Must(t, "whoami", s.Address), "owner")
	assert.Contains(t, kit.Must(t, "push", layout, s.Address+"/berths/seatmap:1"), "Pushed")
	r = kit.Run(t, "push", layout, s.Address+"/timetable/planner:1")
	assert.Equal(t, 3, r.Code)
	assert.Contains(t, r.Err, "marit may not push to timetable/planner: it takes the role writer there")

	// The first registry is the default one.
	assert.Contains(t, kit.Must(t, "list", "berths/seatmap"), "1")

	kit.Must(t, "logout", s.Address)
	r = kit.Run(t, "push", layout, s.Address+"/berths/seatmap:2")
	assert.Equal(t, 3, r.Code)
	assert.Contains(t, r.Err, "not logged in to "+s.Address+"; log in with: warthesis login "+s.Address)

	r = kit.RunWith(t, "wrong password\n", "login", s.Address, "--account", "marit", "--from-stdin")
	assert.Equal(t, 3, r.Code)
	r = kit.Run(t, "login", s.Address, "--account", "marit")
	assert.Equal(t, 2, r.Code, "without a terminal nothing is waited for")
}

// A login that can't be kept leaves no token behind, and one that is kept in a file of its own
// needs no home.
func TestALoginThatCannotBeKeptLeavesNoToken(t *testing.T) {
	s := kit.Start(t, t.TempDir())
	kit.MakeAccount(t, s, "marit")
	folder := t.TempDir()
	// Nobody makes a folder there.
	blocked := "/proc/nothing"
	t.Setenv("WARTHESIS_CLIENT_FOLDER", filepath.Join(blocked, "client"))
	t.Setenv("WARTHESIS_CLIENT_LOGIN_FILE", filepath.Join(blocked, "logins", "config.json"))
	tokens := func() string {
		return string(kit.AsAdmin(t, s, http.MethodGet, "/api/v1/tokens?account=marit", ""))
	}
	before := tokens()
	login := []string{"login", s.Address, "--account", "marit", "--from-stdin"}
	r := kit.RunWith(t, kit.MemberPassword+"\n", login...)
	assert.Equal(t, 1, r.Code)
	assert.Contains(t, r.Err, "the token that was made for it is revoked")
	assert.Equal(t, before, tokens())

	file := filepath.Join(folder, "here", "config.json")
	r = kit.RunWith(t, kit.MemberPassword+"\n", append(login, "--login-file", file)...)
	assert.Equal(t, 0, r.Code, r.Err)
	assert.Contains(t, r.Err, "the default registry could not be noted")
	assert.Contains(t, kit.Must(t, "whoami", s.Address, "--login-file", file), "marit")
	assert.NotEqual(t, before, tokens())
}

func TestATokenOfTheNarrowestKindPushesToItsRepositoryAlone(t *testing.T) {
	s := kit.Start(t, t.TempDir())
	kit.Must(t, "namespace", "make", s.Address+"/berths")
	kit.Must(t, "repository", "make", s.Address+"/berths/seatmap", "--label", "team=berths")
	kit.Must(t, "account", "make", s.Address, "ci-berths", "--kind", "machine")
	kit.Must(t, "grant", s.Address+"/berths/seatmap", "writer", "ci-berths")
	secret := strings.TrimSpace(kit.Must(t, "token", "make", s.Address, "build", "--account", "ci-berths", "--scope", "berths/seatmap:pull,push"))
	kit.OwnClient(t)
	require.Equal(t, 0, kit.RunWith(t, secret, "login", s.Address, "--from-stdin").Code)
	layout := kit.NewImage(t, kit.Bytes(61, 1000)).Layout(t)
	kit.Must(t, "push", layout, s.Address+"/berths/seatmap:1")
	assert.Equal(t, 3, kit.Run(t, "push", layout, s.Address+"/berths/pricing:1").Code)
	assert.Equal(t, 3, kit.Run(t, "token", "list", s.Address).Code, "a token makes and lists no tokens")
}

func TestPlacesAreRemovedAndRestored(t *testing.T) {
	t.Parallel()
	s := kit.Start(t, t.TempDir())
	layout := kit.NewImage(t, kit.Bytes(62, 1000)).Layout(t)
	ref := s.Address + "/berths/seatmap"
	kit.Must(t, "push", layout, ref+":1")
	r := kit.Run(t, "repository", "remove", ref)
	assert.Equal(t, 2, r.Code, "it asks first: %s", r.Err)
	kit.Must(t, "repository", "remove", ref, "--yes")
	assert.Equal(t, 4, kit.Run(t, "list", ref).Code)
	kit.Must(t, "repository", "restore", ref)
	kit.Must(t, "identify", ref+":1")

	kit.Must(t, "namespace", "remove", s.Address+"/berths", "--yes")
	kit.Must(t, "push", layout, ref+":2")
	assert.NotContains(t, kit.Must(t, "list", ref), "\n1 ", "what is pushed meanwhile is another repository")
	r = kit.Run(t, "namespace", "restore", s.Address+"/berths")
	assert.Equal(t, 1, r.Code)
	assert.Contains(t, r.Err, "taken by another one")
	kit.Must(t, "namespace", "rename", s.Address+"/berths", "beds")
	kit.Must(t, "namespace", "restore", s.Address+"/berths")
	kit.Must(t, "identify", ref+":1")
	kit.Must(t, "identify", s.Address+"/beds/seatmap:2")
}

func TestPullSecretsHelpersAndLoginFiles(t *testing.T) {
	s := kit.Start(t, t.TempDir())
	layout := kit.NewImage(t, kit.Bytes(63, 1000)).Layout(t)
	kit.Must(t, "push", layout, s.Address+"/berths/seatmap:1", "--output", "json")
	kit.Must(t, "push", layout, s.Address+"/timetable/board:1")
	secret := filepath.Join(t.TempDir(), "pull-secret.json")
	require.NoError(t, os.WriteFile(secret, []byte(kit.Must(t, "pull-secret", s.Address+"/berths")), 0o600))
	to := filepath.Join(t.TempDir(), "out")
	kit.Must(t, "pull", "--login-file", secret, s.Address+"/berths/seatmap:1", to)
	assert.NotEqual(t, 0, kit.Run(t, "pull", "--login-file", secret, s.Address+"/timetable/board:1", to+"2").Code)
	assert.Equal(t, 3, kit.Run(t, "push", "--login-file", secret, layout, s.Address+"/berths/seatmap:2").Code)

	assert.Contains(t, kit.Must(t, "logins", "check", secret, "--expect", s.Address), "works, as admin; may pull in berths; pull in berths/*")
	r := kit.Run(t, "logins", "check", secret, "--expect", "127.0.0.1")
	assert.Equal(t, 5, r.Code)
	assert.Contains(t, r.Out, "with the port")
	var kubernetes struct {
		Kind string
		Type string
		Data map[string][]byte
	}
	require.NoError(t, json.Unmarshal([]byte(kit.Must(t, "pull-secret", s.Address+"/berths", "--kubernetes")), &kubernetes))
	assert.Equal(t, "kubernetes.io/dockerconfigjson", kubernetes.Type)
	assert.Contains(t, string(kubernetes.Data[".dockerconfigjson"]), s.Address)

	other := filepath.Join(t.TempDir(), "other.json")
	require.NoError(t, os.WriteFile(other, []byte(`{"auths":{"elsewhere.example":{"auth":"YTpi"}},"credHelpers":{"named.example":"keychain"},"credsStore":"vault","proxies":{}}`), 0o600))
	merged := kit.Must(t, "logins", "merge", secret, other)
	assert.Contains(t, merged, s.Address)
	assert.Contains(t, merged, "elsewhere.example")
	assert.Contains(t, merged, "keychain", "a helper asked for one registry is kept")
	assert.NotContains(t, merged, "vault", "who keeps every login is said by the first file alone")
	assert.NotContains(t, merged, "proxies")

	// As a credential helper: under the helper's name, over standard input and output.
	kit.OwnClient(t)
	folder := t.TempDir()
	helper := filepath.Join(folder, "docker-credential-warthesis")
	require.NoError(t, os.Symlink(kit.Binary(t), helper))
	t.Setenv("PATH", folder+":"+os.Getenv("PATH"))
	ask := func(what, input string) (string, error) {
		cmd := exec.Command(helper, what)
		cmd.Env = kit.ClientEnvironment()
		cmd.Stdin = strings.NewReader(input)
		out, err := cmd.Output()
		return string(out), err
	}
	out, err := ask("get", s.Address)
	require.Error(t, err)
	assert.Contains(t, out, "credentials not found")
	_, err = ask("store", `{"ServerURL":"`+s.Address+`","Username":"admin","Secret":"`+kit.Password+`"}`)
	require.NoError(t, err)
	out, err = ask("get", "https://"+s.Address)
	require.NoError(t, err)
	assert.NotContains(t, out, kit.Password, "what is handed out is short-lived")
	require.NoError(t, os.WriteFile(os.Getenv("WARTHESIS_CLIENT_LOGIN_FILE"), []byte(`{"credHelpers":{"`+s.Address+`":"warthesis"}}`), 0o600))
	kit.Must(t, "push", layout, s.Address+"/berths/seatmap:3")
	_, err = ask("erase", s.Address)
	require.NoError(t, err)
	assert.Equal(t, 3, kit.Run(t, "push", layout, s.Address+"/berths/seatmap:4").Code)
}

func TestPeopleLogInByTheCompanyAndMachinesByTheirIdentity(t *testing.T) {
	issuer := kit.StartIssuer(t)
	s := kit.Start(t, t.TempDir(), "--company-issuer", issuer.URL, "--company-client", kit.IssuerClient)
	kit.AsAdmin(t, s, http.MethodPost, "/api/v1/groups", `{"name":"signals","claim":"dept-signals"}`)
	issuer.Is(map[string]any{"sub": "4711", "preferred_username": "Jun@larkspur.example", "name": "Jun", "groups": []string{"dept-signals", "all"}})

	jar, err := cookiejar.New(nil)
	require.NoError(t, err)
	browser := &http.Client{Jar: jar}
	answer, err := browser.Get(s.URL("/api/company/begin?to=/me"))
	require.NoError(t, err)
	answer.Body.Close()
	assert.Equal(t, "/me", answer.Request.URL.Path, "the browser ends where it wanted to go")
	who := me(t, s, browser)
	assert.Equal(t, "jun", who.Account)
	assert.Equal(t, []string{"signals"}, who.Groups)

	// The answer to a login counts in the browser that began it, and once.
	plain := &http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	answer, err = plain.Get(s.URL("/api/company/end?code=code-0&state=x"))
	require.NoError(t, err)
	answer.Body.Close()
	assert.Contains(t, answer.Header.Get("Location"), "/sign-in?refused=")
	for _, to := range []string{"//elsewhere.example", "https://elsewhere.example", `/\elsewhere.example`} {
		answer, err := browser.Get(s.URL("/api/company/begin?to=" + to))
		require.NoError(t, err)
		answer.Body.Close()
		assert.Equal(t, strings.TrimPrefix(s.URL(""), "http://"), answer.Request.URL.Host, to)
	}

	// Somebody who moved to another department comes without the group.
	issuer.Is(map[string]any{"sub": "4711", "preferred_username": "jun", "groups": []string{"all"}})
	kit.OwnClient(t)
	r := kit.Run(t, "login", s.Address, "--company")
	require.Equal(t, 0, r.Code, r.Err)
	assert.Contains(t, r.Err, "SLOW-TRAIN")
	assert.NotContains(t, kit.Must(t, "whoami", s.Address), "signals")
	issuer.Is(map[string]any{"sub": "other", "preferred_username": "admin"})
	r = kit.Run(t, "login", s.Address, "--company")
	assert.Equal(t, 3, r.Code)
	assert.Contains(t, r.Err, "there is an account admin here already")

	kit.AsAdmin(t, s, http.MethodPost, "/api/v1/accounts", `{"name":"ci-signals","kind":"machine"}`)
	kit.AsAdmin(t, s, http.MethodPost, "/api/v1/namespaces", `{"name":"signals"}`)
	kit.AsAdmin(t, s, http.MethodPut, "/api/v1/roles", `{"place":"signals","account":"ci-signals","role":"writer"}`)
	kit.AsAdmin(t, s, http.MethodPost, "/api/v1/identity-rules", `{"name":"relay","issuer":"`+issuer.URL+`","audience":"warthesis","subject":"project:signals/*","account":"ci-signals"}`)
	layout := kit.NewImage(t, kit.Bytes(64, 1000)).Layout(t)
	for _, c := range []struct {
		audience, subject string
		code              int
	}{{"warthesis", "project:berths/seatmap", 3}, {"elsewhere", "project:signals/relay", 3}, {"warthesis", "project:signals/relay", 0}} {
		r := kit.RunWith(t, issuer.Sign(c.audience, c.subject, nil), "login", s.Address, "--identity", "-")
		require.Equal(t, c.code, r.Code, r.Err)
	}
	forged := issuer.Sign("warthesis", "project:signals/relay", nil)
	r = kit.RunWith(t, forged[:len(forged)-6]+"AAAAAA", "login", s.Address, "--identity", "-")
	assert.Equal(t, 3, r.Code)
	kit.Must(t, "push", layout, s.Address+"/signals/relay:1")
	kit.AsAdmin(t, s, http.MethodDelete, "/api/v1/identity-rules/relay", "")
	assert.Equal(t, 3, kit.Run(t, "push", layout, s.Address+"/signals/relay:2").Code, "without the rule its token is over")
}
