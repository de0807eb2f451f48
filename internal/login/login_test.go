package login

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var ctx = context.Background()

func parse(t *testing.T, raw string) *File {
	f, err := Parse("logins.json", []byte(raw))
	require.NoError(t, err)
	return f
}

// Engines write addresses and entries in several ways; all are read.
func TestAnEntryIsFoundHoweverItIsWritten(t *testing.T) {
	for raw, expected := range map[string]Credentials{
		`{"auths":{"registry.larkspur.example:7070":{"auth":"aW5lczpzZWNyZXQ6d2l0aDpjb2xvbnM="}}}`: {Account: "ines", Secret: "secret:with:colons"},
		`{"auths":{"https://registry.larkspur.example:7070/v1/":{"auth":"aW5lczpz"}}}`:             {Account: "ines", Secret: "s"},
		`{"auths":{"registry.larkspur.example:7070":{"username":"ines","password":"s"}}}`:          {Account: "ines", Secret: "s"},
		`{"auths":{"registry.larkspur.example:7070":{"auth":"aW5lczo=","identitytoken":"long"}}}`:  {Account: "ines", Secret: "long", Identity: true},
		`{"auths":{"registry.larkspur.example:7070/berths":{"auth":"aW5lczpz"}}}`:                  {},
		`{"auths":{"registry.larkspur.example":{"auth":"aW5lczpz"}}}`:                              {},
		`{"auths":{"registry.larkspur.example:7070":{}}}`:                                          {},
		`{"auths":null}`: {},
		``:               {},
	} {
		found, err := parse(t, raw).Find(ctx, "registry.larkspur.example:7070")
		require.NoError(t, err, raw)
		found.From = ""
		assert.Equal(t, expected, found, raw)
	}
	for _, raw := range []string{`{"auths":{"r:1":{"auth":"%%%"}}}`, `{"auths":{"r:1":{"auth":"bm9jb2xvbg=="}}}`, `{"auths":{"r:1":[]}}`} {
		_, err := parse(t, raw).Find(ctx, "r:1")
		assert.ErrorContains(t, err, "the entry r:1 of the login file", raw)
	}
	for _, raw := range []string{`[]`, `{"auths":[]}`, `{`} {
		_, err := Parse("logins.json", []byte(raw))
		assert.ErrorContains(t, err, "logins.json", raw)
	}
}

func TestNearMissesAreNamed(t *testing.T) {
	f := parse(t, `{"auths":{"one.example":{},"two.example:7070":{},"three.example:1":{},"https://FOUR.example:7070/":{}}}`)
	for registry, says := range map[string]string{
		"one.example:7070":   "there is an entry for one.example without the port 7070",
		"two.example":        "there is an entry for two.example with the port 7070, and none without",
		"three.example:7070": "there is an entry for three.example with another port, 1",
		"four.example:7070":  "there is an entry for FOUR.example:7070, in other letters",
	} {
		assert.Equal(t, []string{says}, f.NearMisses(registry))
	}
	assert.Empty(t, f.NearMisses("five.example"))
	assert.Empty(t, f.NearMisses("two.example:7070"), "an entry that is there is no near miss")
}

func TestWhatIsNotUnderstoodIsKeptAndALinkStaysOne(t *testing.T) {
	folder := t.TempDir()
	target, link := filepath.Join(folder, "real.json"), filepath.Join(folder, "link.json")
	require.NoError(t, os.WriteFile(target, []byte(`{"auths":{"other.example":{"auth":"YTpi","mark":7}},"plugins":{"x":1}}`), 0o644))
	require.NoError(t, os.Symlink(target, link))
	f, err := Open(link)
	require.NoError(t, err)
	where, err := f.Keep(ctx, "r:1", Credentials{Account: "ines", Secret: "s"})
	require.NoError(t, err)
	assert.Equal(t, link, where)
	raw, err := os.ReadFile(target)
	require.NoError(t, err)
	assert.Contains(t, string(raw), `"mark": 7`)
	assert.Contains(t, string(raw), `"plugins"`)
	info, err := os.Stat(target)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode(), "a file with secrets is its owner's alone")
	info, err = os.Lstat(link)
	require.NoError(t, err)
	assert.NotZero(t, info.Mode()&os.ModeSymlink)
	gone, err := f.Forget(ctx, "r:1")
	require.NoError(t, err)
	assert.True(t, gone)
	again, err := Open(link)
	require.NoError(t, err)
	assert.Equal(t, []string{"other.example"}, again.Keys())
}

func TestThePlaceOfTheLoginFileFollowsTheEnvironment(t *testing.T) {
	for expected, environment := range map[string]map[string]string{
		"/own.json":                      {"WARTHESIS_CLIENT_LOGIN_FILE": "/own.json", "REGISTRY_AUTH_FILE": "/shared.json"},
		"/shared.json":                   {"REGISTRY_AUTH_FILE": "/shared.json", "DOCKER_CONFIG": "/engine"},
		"/engine/config.json":            {"DOCKER_CONFIG": "/engine", "HOME": "/home/ines"},
		"/home/ines/.docker/config.json": {"HOME": "/home/ines"},
	} {
		assert.Equal(t, expected, Place(func(name string) string { return environment[name] }))
	}
}

func TestManyLoginsAtOnceAreAllKept(t *testing.T) {
	path := filepath.Join(t.TempDir(), "config.json")
	getenv := func(name string) string {
		return map[string]string{"WARTHESIS_CLIENT_FOLDER": filepath.Join(filepath.Dir(path), "client")}[name]
	}
	var all sync.WaitGroup
	for i := range 20 {
		f, err := Open(path)
		require.NoError(t, err)
		hosts, err := OpenHosts(getenv)
		require.NoError(t, err)
		registry := fmt.Sprintf("r%d.example", i)
		all.Go(func() {
			_, err := f.Keep(ctx, registry, Credentials{Account: "ines", Secret: "s"})
			assert.NoError(t, err)
			assert.NoError(t, hosts.Change(ctx, func(now *Hosts) { now.Known[registry] = Host{Unverified: true} }))
			hosts.Uploads().Keep(registry, "a/b", "sha256:1", "https://"+registry+"/session")
		})
	}
	all.Wait()
	f, err := Open(path)
	require.NoError(t, err)
	assert.Len(t, f.Keys(), 20)
	hosts, err := OpenHosts(getenv)
	require.NoError(t, err)
	assert.Len(t, hosts.Known, 20)
	assert.Equal(t, "https://r7.example/session", hosts.Uploads().Find("r7.example", "a/b", "sha256:1"))
	hosts.Uploads().Drop("r7.example", "a/b", "sha256:1")
	assert.Empty(t, hosts.Uploads().Find("r7.example", "a/b", "sha256:1"))
	assert.Equal(t, "https://r8.example/session", hosts.Uploads().Find("r8.example", "a/b", "sha256:1"))
}

func TestForgettingARegistryLeavesTheEntriesOfItsNamespaces(t *testing.T) {
	f := parse(t, `{"auths":{"r:1":{"auth":"YTpi"},"https://r:1/v2/":{"auth":"YTpi"},"r:1/berths":{"auth":"YTpi"},"r:1/berths/seatmap":{"auth":"YTpi"}}}`)
	assert.True(t, f.Remove("r:1"))
	assert.Equal(t, []string{"r:1/berths", "r:1/berths/seatmap"}, f.Keys())
	assert.False(t, f.Remove("r:1"))
}

func TestAnEntryThatStandsTwiceIsRefused(t *testing.T) {
	for _, raw := range []string{
		`{"auths":{},"auths":{}}`, `{"auths":{"a.example":{"auth":"YTpi"},"b.example":{},"a.example":{"auth":"Yzpk"}}}`, `{"x":[{"y":1,"y":2}]}`,
	} {
		_, err := Parse("file", []byte(raw))
		assert.ErrorContains(t, err, "twice", raw)
	}
	_, err := Parse("file", []byte(`{"auths":{"a.example":{"auth":"YTpi"},"b.example":{"auth":"YTpi"}},"x":[{"y":1},{"y":1}]}`))
	assert.NoError(t, err)
}

func TestMergingTakesEntriesAndHelpersAndNothingElse(t *testing.T) {
	f := parse(t, `{"auths":{"a":{"auth":"YTpi"}},"credHelpers":{"h":"one"}}`)
	other := parse(t, `{"auths":{"a":{"auth":"YTpj"},"b":{"auth":"YTpi"}},"credHelpers":{"h":"two","g":"three"},"credsStore":"keychain","proxies":{"default":{"httpProxy":"http://evil.example"}}}`)
	assert.Equal(t, []string{"a", "h"}, f.Merge(other))
	raw, err := f.Marshal()
	require.NoError(t, err)
	assert.JSONEq(t, `{"auths":{"a":{"auth":"YTpi"},"b":{"auth":"YTpi"}},"credHelpers":{"h":"one","g":"three"}}`, string(raw))
}

func TestHelpersThatFailHangOrAreMissingSaySoAndNoMore(t *testing.T) {
	folder := t.TempDir()
	t.Setenv("PATH", folder+":"+os.Getenv("PATH"))
	for name, script := range map[string]string{
		"leaky": `echo '{"Username":"ines","Secret":"the very secret"}'; exit 3`,
		"stuck": `sleep 1000 & echo started; wait`,
		"token": `echo '{"Username":"<token>","Secret":"long"}'`,
	} {
		require.NoError(t, os.WriteFile(filepath.Join(folder, HelperPrefix+name), []byte("#!/bin/sh\n"+script+"\n"), 0o755))
	}
	find := func(ctx context.Context, helper string) (Credentials, error) {
		return parse(t, `{"credHelpers":{"r:1":"`+helper+`"}}`).Find(ctx, "r:1")
	}
	_, err := find(ctx, "leaky")
	require.ErrorContains(t, err, "leaky fails to get")
	assert.NotContains(t, err.Error(), "secret")
	_, err = find(ctx, "nowhere-at-all")
	assert.ErrorContains(t, err, "which is not in the path")
	_, err = find(ctx, "../evil")
	assert.ErrorContains(t, err, "is no name of a credential helper")
	_, err = parse(t, `{"credsStore":"x/../../evil"}`).Keep(ctx, "r:1", Credentials{Account: "a", Secret: "b"})
	assert.ErrorContains(t, err, "is no name of a credential helper")
	soon, cancel := context.WithTimeout(ctx, 200*time.Millisecond)
	defer cancel()
	began := time.Now()
	_, err = find(soon, "stuck")
	assert.ErrorContains(t, err, "does not end")
	assert.Less(t, time.Since(began), 20*time.Second, "what it has started does not hold anybody up")
	found, err := find(ctx, "token")
	require.NoError(t, err)
	assert.True(t, found.Identity)
}
