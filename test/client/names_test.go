package client

import (
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"warthesis/internal/api"
	"warthesis/internal/kit"
	"warthesis/internal/oci"
)

// namesWorld is a repository with two versions, by two config blobs.
func namesWorld(t *testing.T) (s *kit.Service, at string, first, second kit.Image) {
	t.Parallel()
	s = kit.Start(t, t.TempDir())
	at = s.Address + "/timetable/planner"
	first, second = kit.NewImage(t, kit.Bytes(1, 1000)), kit.NewImage(t, kit.Bytes(1, 1000), kit.Bytes(2, 1000))
	kit.Must(t, "push", first.Layout(t), at+":1.0.0", at+":stable", at+":latest")
	puts := strings.Count(s.Log(), "method=PUT path=/v2/timetable/planner/manifests/")
	assert.Equal(t, 1, puts, "three tags are one change")
	kit.Must(t, "push", second.Layout(t), at+":1.1.0")
	return s, at, first, second
}

func says(t *testing.T, code int, words []string, args ...string) kit.Result {
	done := kit.Run(t, args...)
	assert.Equal(t, code, done.Code, "%v: %s%s", args, done.Out, done.Err)
	for _, w := range words {
		assert.Contains(t, done.Out+done.Err, w, "%v", args)
	}
	return done
}

func TestRulesAndSealsFromTheTerminal(t *testing.T) {
	_, at, _, _ := namesWorld(t)
	place := strings.TrimSuffix(at, "/planner")
	file := filepath.Join(t.TempDir(), "seals.yaml")
	require.NoError(t, os.WriteFile(file, []byte("immutability:\n- seal: \"*:<version>\"\n  because: stations run it\n"), 0o600))
	says(t, 0, []string{"has no immutability rules of its own"}, "rules", "show", place)
	says(t, 0, []string{"speak of 1 repository", "it would seal 2: 2 that are not sealed now"}, "rules", "preview", place, file)
	says(t, 2, []string{"--reason"}, "rules", "set", place, file)
	says(t, 0, []string{"Set 1 rule"}, "rules", "set", place, file, "--reason", "a test")
	says(t, 0, []string{"because: stations run it"}, "rules", "show", place)
	says(t, 0, []string{"is sealed", "decides (stations run it)"}, "rules", "explain", at+":1.0.0")
	says(t, 3, []string{"is sealed and stays at", "use another tag, such as 1.1.1"}, "tag", "move", at+":1.0.0", "1.1.0")
	says(t, 3, []string{"is sealed"}, "push", kit.NewImage(t, kit.Bytes(9, 10)).Layout(t), at+":1.0.0")
	says(t, 3, []string{"stays: sealed: timetable/planner:1.0.0, timetable/planner:1.1.0"}, "repository", "remove", at, "--yes")
	says(t, 0, []string{"1.0.0", "by rule"}, "list", at, "--pattern", "<version>")
	assert.NotContains(t, says(t, 0, nil, "list", at, "--pattern", "<version>").Out, "stable")
	says(t, 2, []string{"--pattern"}, "list", at, "--pattern", "<minor>")
	says(t, 0, []string{"by hand"}, "tag", "seal", at+":stable", "--reason", "the fair")
	says(t, 3, []string{"admin sealed it by hand (the fair)"}, "tag", "remove", at+":stable", "--yes")
	says(t, 0, []string{"not sealed any more"}, "tag", "unseal", at+":stable", "--reason", "over", "--yes")
	says(t, 2, []string{"--yes"}, "rules", "remove", place, "--reason", "over")
	says(t, 0, nil, "rules", "remove", place, "--reason", "over", "--yes")
	says(t, 4, []string{"no immutability rules of its own"}, "rules", "remove", place, "--reason", "over", "--yes")
	says(t, 0, []string{"moved"}, "tag", "move", at+":1.0.0", "1.1.0")
}

func TestRemovalsFromTheTerminal(t *testing.T) {
	s, at, first, _ := namesWorld(t)
	says(t, 2, []string{"Remove 1 image with 3 tags?"}, "remove", at+":stable")
	says(t, 0, []string{"goes", "tag latest"}, "remove", at+":stable", "--yes", "--reason", "a mistake")
	var list []api.Removal
	require.NoError(t, json.Unmarshal([]byte(kit.Must(t, "removal", "list", at, "--output", "json")), &list))
	require.Len(t, list, 1)
	id := fmt.Sprint(list[0].ID)
	kit.Must(t, "tag", "add", at+":1.1.0", "stable")
	says(t, 1, []string{"take another name, as stable-restored"}, "removal", "undo", s.Address, id)
	says(t, 0, []string{"the name points to"}, "removal", "show", s.Address, id)
	says(t, 2, []string{"--as"}, "removal", "undo", s.Address, id, "--as", "stable=a b")
	says(t, 0, []string{"tag steady points to"}, "removal", "undo", s.Address, id, "--as", "stable=steady")
	assert.Equal(t, first.Manifest.Digest.String(), strings.TrimSpace(kit.Must(t, "identify", at+":1.0.0")))
	says(t, 1, []string{"undone already"}, "removal", "undo", s.Address, id)
	says(t, 4, []string{"no removal 99"}, "removal", "undo", s.Address, "99")
	done := says(t, 0, nil, "tag", "remove", at+":steady", "latest", "--yes", "--output", "json")
	assert.Contains(t, done.Out, `"removal": 2`)
	says(t, 0, []string{"Undone: 2 tags"}, "removal", "undo", s.Address, "2")
	says(t, 0, []string{"undone"}, "removal", "list", s.Address, "--undone")
}

func TestHashesAreFoundWhateverTheyAre(t *testing.T) {
	s, at, _, second := namesWorld(t)
	raw := []byte(kit.Must(t, "show", at+":1.1.0"))
	var m struct {
		Config struct{ Digest oci.Digest }
		Layers []struct{ Digest oci.Digest }
	}
	require.NoError(t, json.Unmarshal(raw, &m))
	_, config := s.Do(http.MethodGet, "/v2/timetable/planner/blobs/"+m.Config.Digest.String(), nil)
	var c struct {
		RootFS struct {
			DiffIDs []oci.Digest `json:"diff_ids"`
		}
	}
	require.NoError(t, json.Unmarshal(config, &c))
	says(t, 0, []string{"config (image ID)", "1.1.0"}, "find", s.Address, m.Config.Digest.String())
	says(t, 0, []string{"layer"}, "find", s.Address, m.Layers[1].Digest.Encoded()[:10])
	if len(c.RootFS.DiffIDs) > 1 {
		says(t, 0, []string{"layer, unpacked", "layer " + m.Layers[1].Digest.Encoded()[:12]}, "find", s.Address, c.RootFS.DiffIDs[1].String())
	}
	says(t, 0, []string{"image", "1.1.0"}, "find", s.Address, second.Manifest.Digest.String())
	says(t, 4, []string{"nothing at"}, "find", s.Address, "abc")
	// The same image, written in another way.
	var other map[string]any
	require.NoError(t, json.Unmarshal(raw, &other))
	kit.PutManifest(t, s, "timetable/planner", "rewritten", oci.MediaTypeImage, map[string]any{"schemaVersion": 2, "mediaType": oci.MediaTypeImage, "config": other["config"], "layers": other["layers"], "annotations": map[string]string{"a": "b"}})
	says(t, 0, []string{"same content as timetable/planner@" + second.Manifest.Digest.Encoded()[:12] + ", other manifest"}, "find", s.Address, strings.TrimSpace(kit.Must(t, "identify", at+":rewritten")))
	says(t, 0, []string{"same content, other manifest", "other\n", at + ":1.1.0@" + second.Manifest.Digest.String()}, "identify", at+":1.1.0", at+":rewritten", at+":stable")
	says(t, 0, []string{"the tag stable of " + at + " points to"}, "identify", at+":stable@"+second.Manifest.Digest.String())
}

func TestPinsInFiles(t *testing.T) {
	s, at, first, second := namesWorld(t)
	folder := t.TempDir()
	write := func(name, text string) string {
		path := filepath.Join(folder, name)
		require.NoError(t, os.WriteFile(path, []byte(text), 0o640))
		return path
	}
	build := write("Dockerfile", "ARG BASE="+at+":1.0.0\r\nFROM ${BASE} # c\r\nFROM "+at+":$X\r\nFROM planner\r\n")
	compose := write("compose.yaml", "services: {a: {image: '"+at+":stable@"+second.Manifest.Digest.String()+"'}}\n")
	says(t, 0, []string{"-ARG BASE=" + at + ":1.0.0", "+ARG BASE=" + at + ":1.0.0@" + first.Manifest.Digest.String(), "a variable in it", "names no registry", at + ":stable moved from " + second.Manifest.Digest.Encoded()[:12]}, "pin", folder)
	says(t, 5, []string{"is not pinned", "1 not pinned, 1 stale", "newer than 1.0.0: 1.1.0"}, "pin", "--check", "--newer", folder)
	before, err := os.ReadFile(build)
	require.NoError(t, err)
	says(t, 0, []string{"1 were pinned, 1 were refreshed"}, "pin", "--write", folder)
	after, err := os.ReadFile(build)
	require.NoError(t, err)
	assert.Equal(t, strings.Replace(string(before), ":1.0.0", ":1.0.0@"+first.Manifest.Digest.String(), 1), string(after))
	info, err := os.Stat(build)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o640), info.Mode().Perm())
	says(t, 0, nil, "pin", "--check", folder)
	left, err := filepath.Glob(filepath.Join(folder, ".*"))
	require.NoError(t, err)
	assert.Empty(t, left)
	says(t, 1, []string{"failed", "could not be looked up"}, "pin", write("other.yaml", "services: {a: {image: "+s.Address+"/nothing/here:1}}"))
	says(t, 1, []string{"it is no YAML"}, "pin", write("wrong.yaml", "a: {{ b }}: c"))
	says(t, 2, []string{"say the opposite"}, "pin", "--write", "--check", compose)
	says(t, 2, []string{"there is no file"}, "pin", filepath.Join(folder, "none"))
}
