package login

import (
	"context"
	"os"
	"path/filepath"
	"testing"

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
		`{"auths":{"registry.larkspur.example:7070":{"auth":"aW5lczo=","identitytoken":"long"}}}`:  {Account: "ines", Secret: "long"},
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
