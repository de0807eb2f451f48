package client

import (
	"bytes"
	"context"
	"encoding/json"
	"encoding/pem"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
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

// hostileText is what a terminal would obey, and a line that looks like one of ours.
const hostileText = "before\x1b[2J\x1b]0;title\x07\u009b31m\u202eafter\n✓ login        as admin\r"

// obeyed are the bytes of it that must not reach a terminal.
func obeyed(t *testing.T, says string, r kit.Result) {
	for _, one := range []string{"\x1b", "\x07", "\u009b", "\u202e", "\r", "\n✓ login        as admin"} {
		assert.NotContains(t, r.Out+r.Err, one, says)
	}
}

// lyingRegistry speaks the standard as far as it is asked to, and lies in one way.
func lyingRegistry(t *testing.T, serve http.HandlerFunc) string {
	server := httptest.NewServer(serve)
	t.Cleanup(server.Close)
	return strings.TrimPrefix(server.URL, "http://")
}

func TestWhatOthersWroteIsShownAndNotDone(t *testing.T) {
	refusing := lyingRegistry(t, func(w http.ResponseWriter, r *http.Request) {
		w.WriteHeader(http.StatusForbidden)
		_ = json.NewEncoder(w).Encode(map[string]any{"errors": []any{map[string]string{"code": "DENIED", "message": hostileText}}, "detail": hostileText})
	})
	listing := lyingRegistry(t, func(w http.ResponseWriter, r *http.Request) {
		if strings.HasPrefix(r.URL.Path, "/api/") {
			http.NotFound(w, r)
			return
		}
		_ = json.NewEncoder(w).Encode(map[string]any{"tags": []string{"1.0", hostileText}, "repositories": []string{hostileText}})
	})
	layout := kit.NewImage(t, kit.Bytes(80, 1000)).Layout(t)
	index, err := os.ReadFile(filepath.Join(layout, "index.json"))
	require.NoError(t, err)
	var entries map[string]any
	require.NoError(t, json.Unmarshal(index, &entries))
	first := entries["manifests"].([]any)[0].(map[string]any)
	first["annotations"] = map[string]string{"org.opencontainers.image.ref.name": hostileText}
	second := map[string]any{"mediaType": first["mediaType"], "digest": first["digest"], "size": first["size"], "annotations": map[string]string{"org.opencontainers.image.ref.name": "other" + hostileText}}
	entries["manifests"] = []any{first, second}
	index, err = json.Marshal(entries)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(layout, "index.json"), index, 0o644))
	for _, args := range [][]string{
		{"identify", refusing + "/a/b:1"}, {"show", refusing + "/a/b:1"}, {"pull", refusing + "/a/b:1", t.TempDir()}, {"list", refusing},
		{"doctor", refusing + "/a/b:1"}, {"list", listing}, {"list", listing + "/a/b"}, {"push", layout, listing + "/a/b:1"},
	} {
		obeyed(t, strings.Join(args, " "), kit.Run(t, args...))
	}
}

// A manifest is shown byte for byte to programs, and made visible to a terminal.
func TestAManifestIsExactInAPipeAndVisibleInATerminal(t *testing.T) {
	manifest := []byte(`{"schemaVersion":2,"mediaType":"` + oci.MediaTypeImage + `","config":{"mediaType":"a/b","digest":"` + string(oci.DigestOf(oci.SHA256, nil)) +
		"\",\"size\":0},\"layers\":[],\"annotations\":{\"a\":\"before\u009b31m\u202eafter\"}}")
	address := lyingRegistry(t, func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", oci.MediaTypeImage)
		_, _ = w.Write(manifest)
	})
	assert.Equal(t, string(manifest), kit.Must(t, "show", address+"/a/b:1"))
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	terminal := exec.CommandContext(ctx, "script", "--quiet", "--return", "--command", kit.Binary(t)+" show "+address+"/a/b:1", "/dev/null")
	terminal.Env = kit.ClientEnvironment()
	out, err := terminal.CombinedOutput()
	require.NoError(t, err, "%s", out)
	assert.Contains(t, string(out), `before\u009b31m\u202eafter`)
	assert.NotContains(t, string(out), "\u009b")
}

// At a registry of another make the list is what the standard gives, and ends.
func TestAListOfAnyRegistryEndsAndComesByTheStandard(t *testing.T) {
	asked := 0
	address := lyingRegistry(t, func(w http.ResponseWriter, r *http.Request) {
		page := r.URL.Query().Get("last")
		switch {
		case r.URL.Path == "/v2/whole/tags/list" && page == "":
			w.Header().Set("Link", `</v2/whole/tags/list?n=2&last=1.1>; rel="next"`)
			_, _ = io.WriteString(w, `{"tags":["1.0","1.1"]}`)
		case r.URL.Path == "/v2/whole/tags/list":
			_, _ = io.WriteString(w, `{"tags":["2.0"]}`)
		case r.URL.Path == "/v2/endless/tags/list":
			asked++
			w.Header().Set("Link", `</v2/endless/tags/list?last=1.0>; rel="next"`)
			_, _ = io.WriteString(w, `{"tags":["1.0"]}`)
		case r.URL.Path == "/v2/":
		default:
			http.NotFound(w, r)
		}
	})
	r := kit.Run(t, "list", address+"/whole")
	require.Equal(t, 0, r.Code, r.Err)
	assert.Equal(t, "1.0\n1.1\n2.0\n", r.Out)
	assert.Contains(t, r.Err, "no Warthesis registry")
	r = kit.Run(t, "list", address+"/endless")
	assert.NotEqual(t, 0, r.Code)
	assert.Contains(t, r.Err, "does not come to an end")
	assert.Less(t, asked, 5)
	r = kit.Run(t, "list", address)
	assert.NotEqual(t, 0, r.Code)
	assert.Contains(t, r.Err, "no list of its repositories")
}

// A login goes to the registry and to where that itself has tokens fetched, and doctor
// names the place.
func TestALoginThatIsNotCheckedIsNotCalledChecked(t *testing.T) {
	kit.OwnClient(t)
	open := lyingRegistry(t, func(http.ResponseWriter, *http.Request) {})
	r := kit.RunWith(t, "open-sesame", "login", open, "--account", "casper", "--from-stdin")
	assert.Contains(t, r.Out+r.Err, "check", "what could not be checked is said: %s", r.Out)

	realm := lyingRegistry(t, func(w http.ResponseWriter, r *http.Request) {
		if _, secret, _ := r.BasicAuth(); secret != "open-sesame" {
			w.WriteHeader(http.StatusUnauthorized)
			return
		}
		_, _ = io.WriteString(w, `{"token":"good"}`)
	})
	closed := lyingRegistry(t, func(w http.ResponseWriter, r *http.Request) {
		if r.Header.Get("Authorization") != "Bearer good" {
			w.Header().Set("WWW-Authenticate", `Bearer realm="http://`+realm+`/token",service="s"`)
			w.WriteHeader(http.StatusUnauthorized)
			return
		}
		if r.URL.Path != "/v2/" {
			w.WriteHeader(http.StatusNotFound)
		}
	})
	r = kit.RunWith(t, "open-sesame", "login", closed, "--account", "casper", "--from-stdin")
	require.Equal(t, 0, r.Code, r.Err)
	assert.Contains(t, r.Err, "what you gave is kept itself")
	r = kit.Run(t, "doctor", closed)
	assert.Equal(t, 0, r.Code, r.Out)
	assert.Contains(t, r.Out, realm+", which gets the login")

	// An answer without a token is none.
	empty := lyingRegistry(t, func(w http.ResponseWriter, r *http.Request) {
		if strings.HasPrefix(r.URL.Path, "/api/") {
			w.Header().Set("Content-Type", "application/json")
			_, _ = io.WriteString(w, `{}`)
			return
		}
		w.Header().Set("WWW-Authenticate", `Basic realm="x"`)
		w.WriteHeader(http.StatusUnauthorized)
	})
	for _, secret := range []string{"open-sesame", "warthesis_" + strings.Repeat("a", 39)} {
		r = kit.RunWith(t, secret, "login", empty, "--account", "casper", "--from-stdin")
		assert.NotEqual(t, 0, r.Code)
	}
	// What fails for a while says nothing about the make, and nothing is kept.
	failing := lyingRegistry(t, func(w http.ResponseWriter, r *http.Request) {
		if strings.HasPrefix(r.URL.Path, "/api/") {
			w.WriteHeader(http.StatusServiceUnavailable)
		}
	})
	assert.NotEqual(t, 0, kit.RunWith(t, "open-sesame", "login", failing, "--account", "casper", "--from-stdin").Code)
	kept, _ := os.ReadFile(os.Getenv("WARTHESIS_CLIENT_LOGIN_FILE"))
	assert.NotContains(t, string(kept), empty)
	assert.NotContains(t, string(kept), failing)
}

// The management API is followed nowhere: not with a login, and not with an identity.
func TestNobodyElseGetsWhatIsForTheManagementAPI(t *testing.T) {
	kit.OwnClient(t)
	var mu sync.Mutex
	var got []string
	elsewhere := lyingRegistry(t, func(w http.ResponseWriter, r *http.Request) {
		mu.Lock()
		defer mu.Unlock()
		got = append(got, r.Method+" "+r.URL.Path)
	})
	for _, status := range []int{http.StatusFound, http.StatusTemporaryRedirect, http.StatusPermanentRedirect} {
		address := lyingRegistry(t, func(w http.ResponseWriter, r *http.Request) {
			if strings.HasPrefix(r.URL.Path, "/api/") {
				http.Redirect(w, r, "http://"+elsewhere+r.URL.Path, status)
			}
		})
		require.Equal(t, 0, kit.RunWith(t, "open-sesame", "login", address, "--account", "casper", "--from-stdin").Code)
		for _, args := range [][]string{
			{"login", address, "--identity", "-"}, {"whoami", address}, {"token", "make", address, "x"}, {"account", "list", address}, {"list", address}, {"logout", address},
		} {
			_ = kit.RunWith(t, "eyJhbGciOiJSUzI1NiJ9.e30.c2ln", args...)
		}
	}
	assert.Empty(t, got)
}

func TestTrustTakesOneAuthorityAndItsBytesAlone(t *testing.T) {
	s := kit.Start(t, t.TempDir(), "--private-authority")
	kit.OwnClient(t)
	fingerprint := fingerprintLine.FindString(s.Log())
	own, err := os.ReadFile(filepath.Join(s.Data, "keys", "authority.pem"))
	require.NoError(t, err)
	other, err := os.ReadFile(filepath.Join(kit.Start(t, t.TempDir(), "--private-authority").Data, "keys", "authority.pem"))
	require.NoError(t, err)
	var served atomic.Value
	between := httptest.NewTLSServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { _, _ = w.Write(served.Load().([]byte)) }))
	defer between.Close()
	address := strings.TrimPrefix(between.URL, "https://")
	leaf := pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: between.Certificate().Raw})
	for says, body := range map[string][]byte{
		"another rides along":      append(append([]byte{}, own...), other...),
		"another after some words": append(append(append([]byte{}, own...), "words\n"...), other...),
		"a key rides along":        append(append([]byte{}, own...), pem.EncodeToMemory(&pem.Block{Type: "EC PRIVATE KEY", Bytes: []byte("x")})...),
		"nothing":                  nil,
		"no certificate":           []byte("<html>"),
		"a broken one":             pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: []byte("x")}),
	} {
		served.Store(body)
		r := kit.Run(t, "trust", address, "--fingerprint", fingerprint)
		assert.NotEqual(t, 0, r.Code, says)
		assert.Contains(t, r.Err, "not one certificate of an authority", says)
	}
	served.Store(leaf)
	assert.NotEqual(t, 0, kit.Run(t, "trust", address, "--fingerprint", fingerprint).Code)

	require.Equal(t, 0, kit.Run(t, "trust", s.Address, "--fingerprint", fingerprint).Code)
	files, err := filepath.Glob(filepath.Join(os.Getenv("WARTHESIS_CLIENT_FOLDER"), "*.pem"))
	require.NoError(t, err)
	require.Len(t, files, 1)
	kept, err := os.ReadFile(files[0])
	require.NoError(t, err)
	block, rest := pem.Decode(kept)
	require.NotNil(t, block)
	assert.Empty(t, bytes.TrimSpace(rest))
}

// throughProxy starts a proxy that alone knows where a name leads.
func throughProxy(t *testing.T, name, to string) (address string, seen func() []string) {
	var mu sync.Mutex
	var all []string
	proxy := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		mu.Lock()
		all = append(all, r.Host)
		mu.Unlock()
		if r.Method != http.MethodConnect || r.Host != name {
			w.WriteHeader(http.StatusBadGateway)
			return
		}
		far, err := net.Dial("tcp", to)
		if err != nil {
			w.WriteHeader(http.StatusBadGateway)
			return
		}
		near, _, err := w.(http.Hijacker).Hijack()
		if err != nil {
			far.Close()
			return
		}
		_, _ = io.WriteString(near, "HTTP/1.1 200 OK\r\n\r\n")
		go func() { defer far.Close(); _, _ = io.Copy(far, near) }()
		go func() { defer near.Close(); _, _ = io.Copy(near, far) }()
	}))
	t.Cleanup(proxy.Close)
	return proxy.URL, func() []string { mu.Lock(); defer mu.Unlock(); return all }
}

// Where a proxy is the only way out, every command takes it.
func TestBehindAProxyEveryCommandGetsThrough(t *testing.T) {
	const name = "registry.larkspur.example:7070"
	s := kit.Start(t, t.TempDir(), "--private-authority", "--outside-addresses", "https://"+name)
	kit.OwnClient(t)
	proxy, seen := throughProxy(t, name, s.Address)
	t.Setenv("HTTPS_PROXY", proxy)
	fingerprint := fingerprintLine.FindString(s.Log())
	r := kit.Run(t, "doctor", name)
	assert.Contains(t, r.Out, "✓ port")
	assert.Contains(t, r.Out, "trust "+name)
	kit.Must(t, "trust", name, "--fingerprint", fingerprint)
	require.Equal(t, 0, kit.RunWith(t, kit.Password, "login", name, "--account", kit.Admin, "--from-stdin").Code)
	kit.Must(t, "push", kit.NewImage(t, kit.Bytes(81, 1000)).Layout(t), name+"/berths/seatmap:1")
	out := kit.Must(t, "doctor", "--push", name+"/berths/seatmap:1")
	assert.Contains(t, out, "is looked up by the proxy")
	assert.Contains(t, out, "may be pushed to")
	kit.Must(t, "pull", name+"/berths/seatmap:1", filepath.Join(t.TempDir(), "out"))
	assert.NotEmpty(t, seen())

	t.Setenv("HTTPS_PROXY", "http://127.0.0.1:1")
	r = kit.Run(t, "doctor", name)
	assert.Equal(t, 5, r.Code)
	assert.Contains(t, r.Out, "HTTPS_PROXY")
}

// What is not checked is the certificate of one host, and of none that it points to.
func TestUnverifiedIsOneHost(t *testing.T) {
	var got []string
	var mu sync.Mutex
	elsewhere := httptest.NewTLSServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		mu.Lock()
		defer mu.Unlock()
		got = append(got, r.URL.Path)
	}))
	defer elsewhere.Close()
	registry := httptest.NewTLSServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path != "/v2/" {
			http.Redirect(w, r, elsewhere.URL, http.StatusTemporaryRedirect)
		}
	}))
	defer registry.Close()
	kit.OwnClient(t)
	address := strings.TrimPrefix(registry.URL, "https://")
	kit.Must(t, "trust", "--unverified", address)
	r := kit.Run(t, "pull", address+"/a/b:1", filepath.Join(t.TempDir(), "out"))
	assert.NotEqual(t, 0, r.Code)
	assert.Contains(t, r.Err, "not trusted")
	assert.Empty(t, got)
}

// Ctrl-C ends what asks and what waits, within a second or two.
func TestCtrlCEndsWhatAsksAndWhatWaits(t *testing.T) {
	asked := make(chan struct{}, 1)
	silent := lyingRegistry(t, func(w http.ResponseWriter, r *http.Request) {
		asked <- struct{}{}
		<-r.Context().Done()
	})
	s := kit.Start(t, t.TempDir())
	kit.AsAdmin(t, s, http.MethodPost, "/api/v1/namespaces", `{"name":"a"}`)
	kit.Must(t, "repository", "make", s.Address+"/a/b")
	for says, test := range map[string]struct{ line, until string }{
		"at a password":     {"login " + s.Address + " --account casper", "assword"},
		"at a question":     {"repository remove " + s.Address + "/a/b", "Type yes"},
		"while none answer": {"identify " + silent + "/a/b:1", ""},
	} {
		t.Run(says, func(t *testing.T) {
			ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
			defer cancel()
			terminal := exec.CommandContext(ctx, "script", "--quiet", "--return", "--flush", "--command", kit.Binary(t)+" "+test.line, "/dev/null")
			terminal.Env = kit.ClientEnvironment()
			keys, err := terminal.StdinPipe()
			require.NoError(t, err)
			out, err := terminal.StdoutPipe()
			require.NoError(t, err)
			require.NoError(t, terminal.Start())
			said := make([]byte, 0, 4096)
			for test.until != "" && !strings.Contains(string(said), test.until) {
				n, err := out.Read(said[len(said):cap(said)])
				said = said[:len(said)+n]
				require.NoError(t, err, "%s", said)
			}
			if test.until == "" {
				<-asked
			}
			began := time.Now()
			_, err = io.WriteString(keys, "\x03")
			require.NoError(t, err)
			rest, _ := io.ReadAll(out)
			assert.Error(t, terminal.Wait(), "it did not do what it was about to")
			assert.Less(t, time.Since(began), 5*time.Second)
			assert.Contains(t, string(rest), "Stopped.")
		})
	}
}

func TestAFlagGivenTwiceIsRefused(t *testing.T) {
	r := kit.Run(t, "list", "--sort", "name", "--sort", "change", "127.0.0.1:1")
	assert.Equal(t, 2, r.Code)
	assert.Contains(t, r.Err, "sort")
}

// An index of many large children comes with little memory: documents go to disk, one
// at a time. The most that is held is read when the last part is asked for.
func TestAnIndexOfManyLargeChildrenIsNotHeldInMemory(t *testing.T) {
	const children, each = 40, 2 << 20
	config := []byte(`{}`)
	child := func(i int) []byte {
		// Ballast that is quickly read: what counts is who keeps it.
		return append(fmt.Appendf(nil, `{"schemaVersion":2,"mediaType":%q,"config":{"mediaType":"application/vnd.oci.image.config.v1+json","digest":%q,"size":2},"layers":[],"annotations":{"n":"%d"}}`,
			oci.MediaTypeImage, oci.DigestOf(oci.SHA256, config), i), bytes.Repeat([]byte(" "), each)...)
	}
	which := map[string]int{}
	var entries []string
	for i := range children {
		raw := child(i)
		d := oci.DigestOf(oci.SHA256, raw)
		which[string(d)] = i
		entries = append(entries, fmt.Sprintf(`{"mediaType":%q,"digest":%q,"size":%d}`, oci.MediaTypeImage, d, len(raw)))
	}
	index := fmt.Appendf(nil, `{"schemaVersion":2,"mediaType":%q,"manifests":[%s]}`, oci.MediaTypeIndex, strings.Join(entries, ","))
	started, held := make(chan int, 1), make(chan string, 1)
	address := lyingRegistry(t, func(w http.ResponseWriter, r *http.Request) {
		at := r.URL.Path[strings.LastIndex(r.URL.Path, "/")+1:]
		i, known := which[at]
		switch {
		case at == "1":
			w.Header().Set("Content-Type", oci.MediaTypeIndex)
			_, _ = w.Write(index)
		case known:
			w.Header().Set("Content-Type", oci.MediaTypeImage)
			_, _ = w.Write(child(i))
		case strings.Contains(r.URL.Path, "/blobs/"):
			status, _ := os.ReadFile(fmt.Sprintf("/proc/%d/status", <-started))
			held <- string(status)
			_, _ = w.Write(config)
		}
	})
	ctx, cancel := context.WithTimeout(context.Background(), 4*time.Minute)
	defer cancel()
	pull := exec.CommandContext(ctx, kit.Binary(t), "pull", address+"/a/b:1", filepath.Join(t.TempDir(), "out"))
	pull.Env = kit.ClientEnvironment()
	var out bytes.Buffer
	pull.Stdout, pull.Stderr = &out, &out
	require.NoError(t, pull.Start())
	started <- pull.Process.Pid
	require.NoError(t, pull.Wait(), "%s", &out)
	_, most, found := strings.Cut(<-held, "VmHWM:")
	require.True(t, found)
	var kibibytes int64
	_, err := fmt.Sscan(most, &kibibytes)
	require.NoError(t, err)
	assert.Less(t, kibibytes<<10, int64(2*children*each), "the race detector's own memory included")
}
