package test

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"warthesis/internal/kit"
	"warthesis/internal/oci"
)

// Guesses are counted before they are checked, and a crowd of names that nobody has
// keeps nobody out who tries as clients do.
func TestGuessesAreCountedBeforeTheyAreChecked(t *testing.T) {
	t.Parallel()
	s := kit.Start(t, t.TempDir())
	kit.MakeAccount(t, s, "marit")
	kit.MakeAccount(t, s, "jun")
	var checked, slowed atomic.Int64
	var all sync.WaitGroup
	for i := range 60 {
		all.Go(func() {
			answer, _, err := s.Try(http.MethodGet, "/v2/", nil, kit.Basic("marit", fmt.Sprint("guess number ", i))...)
			if !assert.NoError(t, err) {
				return
			}
			switch answer.StatusCode {
			case http.StatusUnauthorized:
				checked.Add(1)
			case http.StatusTooManyRequests:
				slowed.Add(1)
				assert.NotEmpty(t, answer.Header.Get("Retry-After"))
			}
		})
	}
	all.Wait()
	assert.LessOrEqual(t, checked.Load(), int64(5))
	assert.EqualValues(t, 60, checked.Load()+slowed.Load())

	ctx, done := context.WithCancel(context.Background())
	for i := range 100 {
		all.Go(func() {
			for j := 0; ctx.Err() == nil; j++ {
				request, err := http.NewRequestWithContext(ctx, http.MethodGet, s.URL("/v2/"), nil)
				if !assert.NoError(t, err) {
					return
				}
				request.SetBasicAuth(fmt.Sprintf("name%dx%d", i, j), "a password of nobody")
				if answer, err := http.DefaultClient.Do(request); err == nil {
					answer.Body.Close()
				}
			}
		})
	}
	kit.Eventually(t, "the right password gets through", func() bool {
		answer, _ := s.Do(http.MethodGet, "/v2/", nil, kit.Basic("jun", kit.MemberPassword)...)
		return answer.StatusCode == http.StatusOK
	})
	// The same password that comes many times at once is one try.
	var right sync.WaitGroup
	for range 30 {
		right.Go(func() {
			answer, _, err := s.Try(http.MethodGet, "/v2/", nil, kit.Basic("jun", kit.MemberPassword)...)
			if assert.NoError(t, err) {
				assert.Equal(t, http.StatusOK, answer.StatusCode)
			}
		})
	}
	right.Wait()
	done()
	all.Wait()

	// What nobody was refused is counted, not written line by line.
	kit.Eventually(t, "the guesses are in the audit log", func() bool {
		_, raw := s.Do(http.MethodGet, "/api/v1/audit?verdict=refused&limit=1000", nil)
		var list struct{ Lines []struct{ Detail string } }
		require.NoError(t, json.Unmarshal(raw, &list))
		require.Less(t, len(list.Lines), 10)
		return len(list.Lines) > 0 && strings.Contains(string(raw), "wrong password")
	})
	assert.Less(t, strings.Count(s.Log(), "\n"), 100, "nor in the service's own log")
}

// One refused push is one line, which says that it was a push.
func TestARefusedPushIsOneLine(t *testing.T) {
	s := kit.Start(t, t.TempDir())
	kit.MakeAccount(t, s, "jun")
	kit.AsAdmin(t, s, http.MethodPost, "/api/v1/namespaces", `{"name":"berths"}`)
	kit.OwnClient(t)
	require.Equal(t, 0, kit.RunWith(t, kit.MemberPassword, "login", s.Address, "--account", "jun", "--from-stdin").Code)
	layout := kit.NewImage(t, kit.Bytes(90, 1000), kit.Bytes(91, 1000), kit.Bytes(92, 1000)).Layout(t)
	require.Equal(t, 3, kit.Run(t, "push", layout, s.Address+"/berths/seatmap:1").Code)
	kit.Eventually(t, "the refusal is in the audit log", func() bool {
		_, raw := s.Do(http.MethodGet, "/api/v1/audit?verdict=refused&account=jun", nil)
		var list struct{ Lines []struct{ Detail string } }
		require.NoError(t, json.Unmarshal(raw, &list))
		if len(list.Lines) == 0 {
			return false
		}
		require.Len(t, list.Lines, 1, "%s", raw)
		return assert.Contains(t, list.Lines[0].Detail, "jun may not push to berths/seatmap")
	})
}

func TestAskingMakesNothing(t *testing.T) {
	s := kit.Start(t, t.TempDir())
	for _, ask := range []struct{ method, path, body string }{
		{"GET", "/v2/ghost/app/blobs/uploads/0123", ""}, {"PATCH", "/v2/ghost/app/blobs/uploads/0123", "x"}, {"PUT", "/v2/ghost/app/manifests/x", "junk"},
		{"PUT", "/v2/ghost/app/manifests/x", `{"schemaVersion":2,"config":{"mediaType":"a/b","digest":"` + oci.DigestOf(oci.SHA256, nil).String() + `","size":0}}`},
		{"POST", "/v2/ghost/app/blobs/uploads/?digest=" + oci.DigestOf(oci.SHA256, nil).String(), "other bytes"}, {"POST", "/v2/ghost/app/blobs/uploads/?digest-algorithm=md5", ""},
	} {
		answer, _ := s.Do(ask.method, ask.path, strings.NewReader(ask.body), "Content-Type", oci.MediaTypeImage)
		assert.GreaterOrEqual(t, answer.StatusCode, 400, ask.path)
	}
	_, raw := s.Do(http.MethodGet, "/api/v1/namespaces", nil)
	assert.JSONEq(t, `{"namespaces":[]}`, withoutSchema(t, raw))

	// Somebody who may make namespaces owns the one that the push makes, made by many
	// uploads at once as it is.
	kit.MakeAccount(t, s, "teodor")
	kit.AsAdmin(t, s, http.MethodPut, "/api/v1/settings", `{"accounts_make_namespaces":true,"push_makes_namespaces":true}`)
	kit.OwnClient(t)
	require.Equal(t, 0, kit.RunWith(t, kit.MemberPassword, "login", s.Address, "--account", "teodor", "--from-stdin").Code)
	image := kit.NewImage(t, kit.Bytes(93, 1000), kit.Bytes(94, 1000), kit.Bytes(95, 1000), kit.Bytes(96, 1000)).Layout(t)
	kit.Must(t, "push", image, s.Address+"/timetable/board:1")
	assert.Contains(t, kit.Must(t, "whoami", s.Address), "owner")

	// A name that would get too long is refused whole.
	long := "timetable/" + strings.Repeat("a", 240)
	kit.PutBlob(t, s, long, []byte("{}"))
	answer, raw := s.Do(http.MethodPatch, "/api/v1/namespaces/timetable", strings.NewReader(`{"rename":"the-timetable-of-the-night"}`), "Content-Type", "application/json")
	assert.Equal(t, http.StatusUnprocessableEntity, answer.StatusCode, "%s", raw)
	assert.Contains(t, string(raw), "at most 255")
	kit.Must(t, "identify", s.Address+"/timetable/board:1")

	// A manifest names so much, and not more.
	config := kit.PutBlob(t, s, "timetable/board", []byte("{}"))
	layer := fmt.Sprintf(`{"mediaType":"a/b","digest":%q,"size":2}`, config)
	many := fmt.Sprintf(`{"schemaVersion":2,"config":%s,"layers":[%s%s]}`, layer, strings.Repeat(layer+",", 4096), layer)
	answer, raw = s.Do(http.MethodPut, "/v2/timetable/board/manifests/many", strings.NewReader(many), "Content-Type", oci.MediaTypeImage)
	assert.Equal(t, http.StatusBadRequest, answer.StatusCode)
	assert.Contains(t, string(raw), "at most 4096 may be")
	_, found := kit.Status(s, http.MethodGet, "/api/v1/find?q=sha256:")
	assert.Contains(t, found, `"places":[]`, "a beginning of nothing means nothing")
}

func withoutSchema(t *testing.T, raw []byte) string {
	var all map[string]any
	require.NoError(t, json.Unmarshal(raw, &all))
	delete(all, "$schema")
	left, err := json.Marshal(all)
	require.NoError(t, err)
	return string(left)
}

func TestARangeCountsOnlyForWhatTheCallerHasOfIt(t *testing.T) {
	t.Parallel()
	s := kit.Start(t, t.TempDir())
	d := kit.PutBlob(t, s, "a", []byte("0123456789"))
	for condition, whole := range map[string]bool{"": false, `"` + d.String() + `"`: false, `"sha256:other"`: true, `W/"` + d.String() + `"`: true, "Wed, 21 Oct 2026 07:28:00 GMT": true} {
		answer, raw := s.Do(http.MethodGet, "/v2/a/blobs/"+d.String(), nil, "Range", "bytes=2-4", "If-Range", condition)
		if whole {
			assert.Equal(t, http.StatusOK, answer.StatusCode, condition)
			assert.Equal(t, "0123456789", string(raw), condition)
			continue
		}
		assert.Equal(t, http.StatusPartialContent, answer.StatusCode, condition)
		assert.Equal(t, "234", string(raw), condition)
	}
}

// serveOnce runs the service until it ends, with its output where it is told.
func serveOnce(t *testing.T, data string, out *os.File, more ...string) (said string, failed bool) {
	cmd := exec.Command(kit.Binary(t), append([]string{"serve", "--data", data, "--free-bytes", "1"}, more...)...)
	cmd.Env = append(os.Environ(), "WARTHESIS_ADMIN_PASSWORD=")
	var text bytes.Buffer
	cmd.Stdout, cmd.Stderr = &text, &text
	if out != nil {
		cmd.Stdout = out
	}
	err := cmd.Run()
	return text.String(), err != nil
}

// The password of the first admin is shown, or there is no first admin; whoever has
// the machine gets back in.
func TestWhoHasTheMachineGetsIn(t *testing.T) {
	data := t.TempDir()
	taken, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer taken.Close()
	full, err := os.OpenFile("/dev/full", os.O_WRONLY, 0)
	require.NoError(t, err)
	defer full.Close()
	for says, try := range map[string]func() (string, bool){
		"the port is taken":          func() (string, bool) { return serveOnce(t, data, nil, "--listen", taken.Addr().String()) },
		"there is no certificate":    func() (string, bool) { return serveOnce(t, data, nil, "--certificates", "no.pem:no.key") },
		"nothing can be written out": func() (string, bool) { return serveOnce(t, data, full, "--listen", "127.0.0.1:0") },
	} {
		said, failed := try()
		assert.True(t, failed, "%s: %s", says, said)
	}
	shown := regexp.MustCompile(`with the password  (\S+)`)
	t.Setenv("WARTHESIS_ADMIN_PASSWORD", "")
	s := kit.StartAlone(t, data)
	found := shown.FindStringSubmatch(s.Log())
	require.NotNil(t, found, "the first start that works shows it: %s", s.Log())
	comesIn := func(account, password string) bool {
		answer, _ := s.Do(http.MethodGet, "/v2/", nil, kit.Basic(account, password)...)
		return answer.StatusCode == http.StatusOK
	}
	assert.True(t, comesIn("admin", found[1]))

	// While it runs.
	w := &traders{t, s}
	session, ok := w.signIn("admin", found[1])
	require.True(t, ok)
	made := strings.TrimSpace(kit.Must(t, "admin-password", "--data", data))
	assert.True(t, comesIn("admin", made))
	assert.False(t, comesIn("admin", found[1]))
	assert.False(t, w.good(session), "its sessions have ended")
	r := kit.RunWith(t, "short", "admin-password", "ines", "--data", data, "--from-stdin")
	assert.Equal(t, 2, r.Code)
	assert.Contains(t, r.Err, "fewer than 10 characters")
	require.Equal(t, 0, kit.RunWith(t, "a password from the file", "admin-password", "ines", "--data", data, "--from-stdin").Code)
	assert.True(t, comesIn("ines", "a password from the file"))
	_, raw := s.Do(http.MethodGet, "/api/v1/audit?kind=password-changed", nil, kit.Basic("ines", "a password from the file")...)
	assert.Contains(t, string(raw), "by whoever has the machine")
	left, err := filepath.Glob(filepath.Join(data, "keys", "let-in.json*"))
	require.NoError(t, err)
	assert.Empty(t, left)

	// While it does not.
	s.Stop()
	made = strings.TrimSpace(kit.Must(t, "admin-password", "--data", data))
	s.Restart()
	assert.True(t, comesIn("admin", made))
	r = kit.Run(t, "admin-password", "--data", t.TempDir())
	assert.Equal(t, 1, r.Code)
	assert.Contains(t, r.Err, "is no data folder of a registry")
}

// An issuer that an identity rule names is reached as a peer is: not where an address is not
// public, unless the service's settings list it.
func TestIssuersAreReachedWithTheChecksOfPeers(t *testing.T) {
	t.Parallel()
	issuer := kit.StartIssuer(t)
	s := kit.Start(t, t.TempDir())
	kit.AsAdmin(t, s, http.MethodPost, "/api/v1/accounts", `{"name":"robot","kind":"machine"}`)
	answer, raw := s.Do(http.MethodPost, "/api/v1/identity-rules", strings.NewReader(`{"name":"builds","issuer":"`+issuer.URL+`","audience":"warthesis","subject":"*","account":"robot"}`), "Content-Type", "application/json")
	assert.GreaterOrEqual(t, answer.StatusCode, 400, "%s", raw)
	assert.Contains(t, string(raw), "inside_networks")
}

// What a request announces and does not send is waited for as long as anybody may stall, also
// where nobody reads it.
func TestAPullWhoseAnnouncedBodyNeverComesEnds(t *testing.T) {
	t.Parallel()
	s := kit.Start(t, t.TempDir(), "--body-idle", "1s")
	for _, path := range []string{"/v2/", "/v2/a/b/manifests/x", "/api/v1/service", "/healthz/ready", "/"} {
		conn, err := net.Dial("tcp", s.Address)
		require.NoError(t, err)
		_, err = fmt.Fprintf(conn, "GET %s HTTP/1.1\r\nHost: x\r\nContent-Length: 100\r\n\r\n", path)
		require.NoError(t, err)
		require.NoError(t, conn.SetReadDeadline(time.Now().Add(30*time.Second)))
		_, err = io.Copy(io.Discard, conn)
		assert.NoError(t, err, "the connection of %s ends", path)
		conn.Close()
	}
}

// An issuer that hangs keeps some waiting, and nothing else from going on.
func TestAnIssuerThatHangsHoldsFewUp(t *testing.T) {
	t.Parallel()
	silent, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer silent.Close()
	s := kit.Start(t, t.TempDir(), "--company-issuer", "http://"+silent.Addr().String(), "--company-client", kit.IssuerClient)
	plain := &http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	var crowded, unreachable atomic.Int64
	var all sync.WaitGroup
	for range 40 {
		all.Go(func() {
			answer, err := plain.Get(s.URL("/api/company/begin"))
			if !assert.NoError(t, err) {
				return
			}
			answer.Body.Close()
			switch said := answer.Header.Get("Location"); {
			case strings.Contains(said, "too+many+logins+wait"):
				crowded.Add(1)
			case strings.Contains(said, "cannot+be+reached"):
				unreachable.Add(1)
			}
		})
	}
	kit.PutBlob(t, s, "a", []byte("meanwhile"))
	all.Wait()
	assert.EqualValues(t, 40, crowded.Load()+unreachable.Load())
	assert.LessOrEqual(t, unreachable.Load(), int64(8))
}
