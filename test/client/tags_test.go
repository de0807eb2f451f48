package client

import (
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"warthesis/internal/api"
	"warthesis/internal/kit"
)

// otherMake is a registry that speaks the standard alone, and may not know conditions or
// how tags are removed.
func otherMake(t *testing.T, s *kit.Service, removes bool) string {
	to, err := url.Parse(s.URL(""))
	require.NoError(t, err)
	proxy := httputil.NewSingleHostReverseProxy(to)
	front := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		r.Header.Del("If-Match")
		switch {
		case strings.HasPrefix(r.URL.Path, "/api/v1"):
			http.NotFound(w, r)
		case r.Method == http.MethodDelete && !removes:
			w.WriteHeader(http.StatusMethodNotAllowed)
		case r.Method == http.MethodPut && strings.Contains(r.URL.Path, "/manifests/"):
			// It knows no tag parameters, and leaves them be.
			r.URL.RawQuery = ""
			proxy.ServeHTTP(w, r)
		default:
			proxy.ServeHTTP(w, r)
		}
	}))
	t.Cleanup(front.Close)
	return strings.TrimPrefix(front.URL, "http://")
}

// At our own registry and at another one the commands for tags do the same, as far as the
// standard goes.
func TestTagsAreChangedHereAndElsewhere(t *testing.T) {
	t.Parallel()
	s := kit.Start(t, t.TempDir())
	one, two := kit.NewImage(t, kit.Bytes(21, 1000)).Layout(t), kit.NewImage(t, kit.Bytes(22, 1000)).Layout(t)
	for name, address := range map[string]string{"ours": s.Address, "another": otherMake(t, s, true)} {
		kit.LogInAs(t, address, kit.Admin, kit.Password)
		at := address + "/berths/" + name
		kit.Must(t, "push", one, at+":1.0.0", at+":1.0.0-too")
		kit.Must(t, "push", two, at+":2.0.0")
		digest := func(tag string) string {
			return strings.TrimSpace(kit.Must(t, "identify", at+":"+tag))
		}
		first, second := digest("1.0.0"), digest("2.0.0")
		assert.Equal(t, first, digest("1.0.0-too"))
		run := func(code int, said string, args ...string) {
			done := kit.Run(t, append([]string{"tag"}, args...)...)
			assert.Equal(t, code, done.Code, "%s %v: %s%s", name, args, done.Out, done.Err)
			assert.Contains(t, done.Out+done.Err, said, "%s %v", name, args)
		}
		run(0, "added", "add", at+":1.0.0", "stable", "1.0")
		run(0, "was there already", "add", at+":1.0.0", "stable")
		run(1, "points to "+first, "add", at+":2.0.0", "stable")
		assert.Equal(t, first, digest("stable"))
		run(5, "points to "+first, "move", at+":stable", "2.0.0", "--if", second)
		assert.Equal(t, first, digest("stable"))
		run(0, "moved", "move", at+":stable", at+":2.0.0", "--if", first)
		assert.Equal(t, second, digest("stable"))
		run(0, "moved", "add", "--move", at+"@"+first, "stable", "new")
		assert.Equal(t, first, digest("stable"))
		run(4, "gone", "move", at+":gone", "2.0.0")
		run(1, "take another name", "rename", at+":new", "stable")
		run(0, "is called newest now", "rename", at+":new", "newest")
		assert.Equal(t, first, digest("newest"))
		run(4, "no tag new", "remove", at+":new", "--yes")
		run(2, "--yes", "remove", at+":newest")
		run(5, "points to "+first, "remove", at+":newest", "--if", second, "--yes")
		run(0, "removed", "remove", at+":newest", "1.0", "--yes")
		assert.Equal(t, 4, kit.Run(t, "identify", at+":newest").Code)
		assert.Equal(t, first, digest("1.0.0"))
		run(2, "no whole digest", "move", at+":stable", "2.0.0", "--if", first[:20])
		run(2, "another repository", "move", at+":stable", address+"/berths/elsewhere:2.0.0")
		run(2, "a digest stays", "remove", at+"@"+first, "--yes")
		run(2, "named twice", "add", at+":1.0.0", "x", "x")
	}
	var log []api.TagMove
	require.NoError(t, json.Unmarshal([]byte(kit.Must(t, "tag", "log", s.Address+"/berths/ours:newest", "--output", "json")), &log))
	require.Len(t, log, 2)
	assert.Empty(t, log[0].To)
	assert.Equal(t, log[0].At, *log[1].Until)
	done := kit.Run(t, "tag", "log", otherMake(t, s, true)+"/berths/ours")
	assert.NotEqual(t, 0, done.Code)
	assert.Contains(t, done.Err, "no Warthesis registry")

	// One that does not remove tags says so, and what a rename left is told.
	address := otherMake(t, s, false)
	kit.LogInAs(t, address, kit.Admin, kit.Password)
	done = kit.Run(t, "tag", "rename", address+"/berths/another:stable", "steady")
	assert.Equal(t, 1, done.Code)
	assert.Contains(t, done.Err, "has the tag steady now as well, and stable stays")
	done = kit.Run(t, "tag", "remove", address+"/berths/another:stable", "--yes")
	assert.Equal(t, 1, done.Code)
	assert.Contains(t, done.Err, "does not remove tags alone")
}

func TestWhoWaitsForATagHearsOfIt(t *testing.T) {
	t.Parallel()
	s := kit.Start(t, t.TempDir(), "--log-level", "debug")
	layout, other := kit.NewImage(t, kit.Bytes(23, 1000)).Layout(t), kit.NewImage(t, kit.Bytes(24, 1000)).Layout(t)
	for name, address := range map[string]string{"ours": s.Address, "another": otherMake(t, s, true)} {
		kit.LogInAs(t, address, kit.Admin, kit.Password)
		at := address + "/berths/" + name
		kit.Must(t, "push", layout, at+":1.0.0")
		first := strings.TrimSpace(kit.Must(t, "identify", at+":1.0.0"))
		waits := func(path string, args ...string) <-chan kit.Result {
			asked := strings.Count(s.Log(), path)
			ended := make(chan kit.Result, 1)
			go func() { ended <- kit.Run(t, append([]string{"wait"}, args...)...) }()
			kit.Eventually(t, "the first question", func() bool { return strings.Count(s.Log(), path) > asked })
			return ended
		}
		there := waits("method=HEAD path=/v2/berths/"+name+"/manifests/2.0.0", at+":2.0.0", "--within", "2m")
		kit.Must(t, "push", other, at+":2.0.0")
		second := strings.TrimSpace(kit.Must(t, "identify", at+":2.0.0"))
		assert.Equal(t, kit.Result{Out: second + "\n"}, <-there, name)

		moved := waits("method=HEAD path=/v2/berths/"+name+"/manifests/1.0.0", at+":1.0.0", "--not", first, "--within", "2m")
		kit.Must(t, "tag", "move", at+":1.0.0", "2.0.0")
		assert.Equal(t, kit.Result{Out: second + "\n"}, <-moved, name)

		over := kit.Run(t, "wait", at+":1.0.0", "--is", first, "--within", "1s")
		assert.Equal(t, 5, over.Code, over.Err)
		assert.Contains(t, over.Err, "it points to "+second)
		assert.Equal(t, 2, kit.Run(t, "wait", at+":1.0.0", "--is", first, "--moved").Code)
		assert.Equal(t, 2, kit.Run(t, "wait", at+"@"+first, "--moved").Code)
	}
	assert.Contains(t, s.Log(), "path=/api/v1/changes status=200", "nobody heard of changes")
}

func TestTheNextVersionIsPrintedHeldOrPushed(t *testing.T) {
	t.Parallel()
	s := kit.Start(t, t.TempDir())
	layout := kit.NewImage(t, kit.Bytes(25, 1000)).Layout(t)
	for name, address := range map[string]string{"ours": s.Address, "another": otherMake(t, s, true)} {
		kit.LogInAs(t, address, kit.Admin, kit.Password)
		at := address + "/" + name + "/seatmap"
		next := func(args ...string) string {
			return strings.TrimSpace(kit.Must(t, append([]string{"next", at}, args...)...))
		}
		assert.Equal(t, "0.1.0", next(), "%s: the first push makes the repository", name)
		pushed := kit.Run(t, "next", at, "minor", "--push", layout)
		assert.Equal(t, "0.1.0\n", pushed.Out)
		assert.Equal(t, name == "ours", strings.Contains(pushed.Err, "The push made the namespace "+name), "%s: %s", name, pushed.Err)
		kit.Must(t, "push", layout, at+":v1.9.0")
		kit.Must(t, "push", layout, at+":planner-2.0.0-rc.1")
		assert.Equal(t, "v1.9.1", next("patch"))
		assert.Equal(t, "VERSION=v1.10.0-rc.1", next("--word", "rc", "--as", "VERSION"))
		assert.Equal(t, "planner-0.1.0", next("--prefix", "planner-"))
		assert.Equal(t, "v2.0.0", next("major", "--push", layout))
		assert.Equal(t, 0, kit.Run(t, "identify", at+":v2.0.0").Code)
		kit.Must(t, "tag", "remove", at+":v2.0.0", "--yes")
		piped := kit.RunWith(t, "3.0.0\nnone\n3.1.0-rc.4\n", "next", at, "--word", "rc", "--from-stdin")
		assert.Equal(t, kit.Result{Out: "3.1.0-rc.5\n"}, piped)
		for _, wrong := range [][]string{{"big"}, {"--word", "1"}, {"--from-stdin", "--hold"}, {"--output", "json", "--as", "X"}} {
			assert.Equal(t, 2, kit.Run(t, append([]string{"next", at}, wrong...)...).Code, wrong)
		}
		held := kit.Run(t, "next", at, "major", "--hold")
		if name == "another" {
			assert.Contains(t, held.Err, "cannot hold a name")
			continue
		}
		assert.Equal(t, "v3.0.0\n", held.Out, held.Err)
		assert.Equal(t, "v4.0.0", next("major"))
	}
}

// A registry that takes a call and never answers holds nobody longer than was said.
func TestWaitingEndsAlsoWhereNobodyAnswers(t *testing.T) {
	t.Parallel()
	over := make(chan struct{})
	front := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { <-over }))
	t.Cleanup(front.Close)
	t.Cleanup(func() { close(over) })
	ended := make(chan kit.Result, 1)
	go func() {
		ended <- kit.Run(t, "wait", strings.TrimPrefix(front.URL, "http://")+"/berths/seatmap:1.0.0", "--within", "1s")
	}()
	kit.Eventually(t, "the end of the wait", func() bool { return len(ended) > 0 })
	done := <-ended
	assert.Equal(t, 5, done.Code, done.Err)
	assert.Contains(t, done.Err, "did not answer within 1s")
}
