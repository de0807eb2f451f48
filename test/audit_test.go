package test

import (
	"bufio"
	"encoding/json"
	"net/http"
	"net/url"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"warthesis/internal/api"
	"warthesis/internal/kit"
)

// lines reads the audit log, the newest first.
func lines(t *testing.T, s *kit.Service, query url.Values) []api.Line {
	answer, raw := s.Do(http.MethodGet, "/api/v1/audit?limit=1000&"+query.Encode(), nil)
	require.Equal(t, http.StatusOK, answer.StatusCode, "%s", raw)
	var list api.LineList
	require.NoError(t, json.Unmarshal(raw, &list))
	return list.Lines
}

// Each change leaves one line that says who did what, on what, and by which request.
func TestEveryChangeStandsInTheAuditLog(t *testing.T) {
	t.Parallel()
	s := kit.Start(t, t.TempDir())
	layout := kit.NewImage(t, kit.Bytes(90, 1000)).Layout(t)
	for _, c := range []struct {
		kind, method, path, body string
		on                       string
	}{
		{"account-made", "POST", "/api/v1/accounts", `{"name":"marit"}`, "account marit"},
		{"account-changed", "PATCH", "/api/v1/accounts/marit", `{"description":"Berths"}`, "account marit"},
		{"password-changed", "PUT", "/api/v1/accounts/marit/password", `{"password":"` + kit.MemberPassword + `"}`, "account marit"},
		{"group-made", "POST", "/api/v1/groups", `{"name":"berths"}`, "group berths"},
		{"group-changed", "PUT", "/api/v1/groups/berths/members/marit", ``, "group berths"},
		{"namespace-made", "POST", "/api/v1/namespaces", `{"name":"berths"}`, "namespace berths"},
		{"namespace-changed", "PATCH", "/api/v1/namespaces/berths", `{"open":true}`, "namespace berths"},
		{"role-granted", "PUT", "/api/v1/roles", `{"place":"berths","group":"berths","role":"writer"}`, "namespace berths"},
		{"role-taken", "DELETE", "/api/v1/roles?place=berths&group=berths", ``, "namespace berths"},
		{"repository-made", "POST", "/api/v1/repositories", `{"name":"berths/seatmap"}`, "berths/seatmap"},
		{"repository-changed", "PATCH", "/api/v1/repository?repository=berths/seatmap", `{"visibility":"closed"}`, "berths/seatmap"},
		{"repository-removed", "DELETE", "/api/v1/repository?repository=berths/seatmap", ``, "berths/seatmap"},
		{"repository-restored", "POST", "/api/v1/repository/restore?repository=berths/seatmap", ``, "berths/seatmap"},
		{"namespace-removed", "DELETE", "/api/v1/namespaces/berths", ``, "namespace berths"},
		{"namespace-restored", "POST", "/api/v1/namespaces/berths/restore", ``, "namespace berths"},
		{"token-made", "POST", "/api/v1/tokens", `{"account":"marit","name":"laptop","scopes":[{"pattern":"*","actions":["pull"]}]}`, "account marit"},
		{"token-made", "POST", "/api/v1/tokens/laptop/replace?account=marit", ``, "account marit"},
		{"token-revoked", "DELETE", "/api/v1/tokens/laptop?account=marit", ``, "account marit"},
		{"settings-changed", "PUT", "/api/v1/settings", `{"accounts_make_namespaces":true,"push_makes_namespaces":true}`, ""},
		{"keys-rotated", "POST", "/api/v1/keys/rotate", ``, ""},
		{"group-removed", "DELETE", "/api/v1/groups/berths", ``, "group berths"},
	} {
		answer, raw := s.Do(c.method, c.path, strings.NewReader(c.body), "Content-Type", "application/json")
		require.Less(t, answer.StatusCode, 300, "%s: %s", c.kind, raw)
		last := lines(t, s, nil)[0]
		assert.Equal(t, c.kind, last.Kind)
		assert.Equal(t, c.on, last.Subject+string(last.Repository), c.kind)
		assert.Equal(t, "admin", last.Account, c.kind)
		assert.Equal(t, "127.0.0.1", last.Address, c.kind)
		assert.Equal(t, answer.Header.Get("X-Request-Id"), last.Request, c.kind)
		assert.Equal(t, "done", last.Verdict, c.kind)
		assert.NotContains(t, last.Detail, kit.MemberPassword)
	}

	// Pulls are counted; they are logged where the namespace wants it.
	ref := s.Address + "/berths/seatmap:1"
	kit.Must(t, "push", layout, ref)
	kit.Must(t, "pull", ref, t.TempDir()+"/one")
	kit.Must(t, "namespace", "change", s.Address+"/berths", "--log-pulls")
	kit.Must(t, "pull", ref, t.TempDir()+"/two")
	kit.Eventually(t, "the pull is written", func() bool { return len(lines(t, s, url.Values{"kind": {"pull"}})) == 1 })
	assert.Equal(t, "1", string(lines(t, s, url.Values{"kind": {"pull"}})[0].Tag))

	// Refusals say which right was missing; the bare challenge that begins a login is none.
	kit.MakeAccount(t, s, "jun")
	kit.LogInAs(t, s.Address, "jun", kit.MemberPassword)
	require.Equal(t, 3, kit.Run(t, "push", layout, s.Address+"/berths/seatmap:2").Code)
	refused := url.Values{"verdict": {"refused"}, "account": {"jun"}, "repository": {"berths/seatmap"}}
	kit.Eventually(t, "the refusal is written", func() bool { return len(lines(t, s, refused)) > 0 })
	for _, line := range lines(t, s, url.Values{"verdict": {"refused"}}) {
		assert.NotEmpty(t, line.Account, "nobody is refused by a challenge")
	}
	assert.Contains(t, lines(t, s, refused)[0].Detail, "it takes the role writer there")

	for _, line := range lines(t, s, url.Values{"namespace": {"berths"}}) {
		assert.True(t, line.Subject == "namespace berths" || strings.HasPrefix(string(line.Repository), "berths/"), "%+v", line)
	}
	// The export has every line, one JSON object each, in the same order.
	kit.LogInAs(t, s.Address, kit.Admin, kit.Password)
	exported := bufio.NewScanner(strings.NewReader(kit.Must(t, "audit", s.Address, "--output", "json")))
	all := lines(t, s, nil)
	count := 0
	for exported.Scan() {
		var line api.Line
		require.NoError(t, json.Unmarshal(exported.Bytes(), &line))
		count++
	}
	assert.Equal(t, len(all), count)
}

// Who is shown less than all is not refused: looking leaves no line.
func TestLookingIsNoRefusal(t *testing.T) {
	t.Parallel()
	s := kit.Start(t, t.TempDir())
	kit.MakeAccount(t, s, "jun")
	for _, namespace := range []string{"berths", "signals"} {
		kit.AsAdmin(t, s, http.MethodPost, "/api/v1/namespaces", `{"name":"`+namespace+`"}`)
	}
	kit.AsAdmin(t, s, http.MethodPut, "/api/v1/roles", `{"place":"berths","account":"jun","role":"owner"}`)
	kit.AsAdmin(t, s, http.MethodPut, "/api/v1/roles", `{"place":"signals","account":"jun","role":"reader"}`)
	kit.AsAdmin(t, s, http.MethodPost, "/api/v1/repositories", `{"name":"berths/seatmap"}`)
	of := func(path string) int {
		answer, _ := s.Do(http.MethodGet, "/api/v1/"+path, nil, kit.Basic("jun", kit.MemberPassword)...)
		return answer.StatusCode
	}
	for _, path := range []string{
		"usage", "usage?place=berths", "usage?place=berths/seatmap", "usage/labels?label=team", "usage/traffic?place=berths", "usage/traffic?place=berths&by=account", "usage/growth?place=berths",
		"runs?place=berths", "in-use", "rules?kind=retention&place=berths", "namespaces", "namespaces/signals",
	} {
		assert.Equal(t, http.StatusOK, of(path), path)
	}
	// A refusal ends what is to be waited for.
	assert.Equal(t, http.StatusForbidden, of("usage?place=signals"))
	refused := url.Values{"verdict": {"refused"}, "account": {"jun"}}
	kit.Eventually(t, "the refusal is written", func() bool { return len(lines(t, s, refused)) > 0 })
	all := lines(t, s, refused)
	assert.Len(t, all, 1, "%+v", all)
}
