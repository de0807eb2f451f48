package mirrors

import (
	"testing"

	"github.com/pelletier/go-toml/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"warthesis/internal/flow/packing"
	"warthesis/internal/oci"
)

func items(t *testing.T, text string) []packing.Item {
	l, err := packing.Read([]byte(text))
	require.NoError(t, err)
	all, err := l.Items(nil)
	require.NoError(t, err)
	return all
}

var place = Place{Registry: "tarn.larkspur.example", Prefix: "mirror"}

func TestRulesSayWhereNamesAreLookedForFirst(t *testing.T) {
	all := items(t, "hq.example/signals/relay:1\nhq.example/signals/other:1\nhq.example/base/os:1 -> base-os:1\ntarn.larkspur.example/x:1\n")
	rules := Of(all, place)
	assert.Equal(t, []Rule{{"hq.example/base/os", "tarn.larkspur.example/mirror/base-os"}, {"hq.example/signals", "tarn.larkspur.example/mirror/signals"}}, rules)
	for text, to := range map[string]string{
		"hq.example/signals/a/b:1": "tarn.larkspur.example/mirror/signals/a/b", "hq.example/base/os:2": "tarn.larkspur.example/mirror/base-os",
		"hq.example/base/other:1": "", "hq.example/signalsbox/a:1": "",
	} {
		ref, err := oci.ParseReference(text)
		require.NoError(t, err)
		assert.Equal(t, to, Covers(rules, ref), text)
	}
	registries, not := Hosts(all, place)
	assert.Equal(t, []string{"hq.example"}, registries)
	assert.Equal(t, []Rule{{"hq.example/base/os", "tarn.larkspur.example/mirror/base-os"}}, not)
}

// What is there stays as it is, and what it said of a broader prefix is said again; a second
// time nothing is added.
func TestTheEnginesFileIsMergedInto(t *testing.T) {
	now := "# ours\nunqualified-search-registries = [\"hq.example\"] # first\n\n[[registry]] # theirs\nlocation = \"hq.example\"\ninsecure = true\n\n  [[registry.mirror]]\n  location = \"near.example\"\n\n" +
		"[[registry]]\nprefix = \"hq.example/base\"\nlocation = \"other.example/base\"\n[[registry.mirror]]\nlocation = \"old.example/base\"\n"
	rules := []Rule{{"hq.example/base", "tarn.larkspur.example/mirror/base"}, {"hq.example/signals", "tarn.larkspur.example/mirror/signals"}}
	raw, err := Engine([]byte(now), rules, Place{Registry: place.Registry, ByDigest: true})
	require.NoError(t, err)
	assert.Contains(t, string(raw), now[:len(now)-len("[[registry.mirror]]\nlocation = \"old.example/base\"\n")])
	var is engineFile
	require.NoError(t, toml.Unmarshal(raw, &is))
	require.Len(t, is.Registry, 3)
	assert.Equal(t, "tarn.larkspur.example/mirror/base", is.Registry[1].Mirror[0].Location)
	assert.Equal(t, "old.example/base", is.Registry[1].Mirror[1].Location)
	assert.Equal(t, "digest-only", is.Registry[2].Mirror[0].From)
	assert.True(t, is.Registry[2].Insecure)
	assert.Equal(t, "near.example/signals", is.Registry[2].Mirror[1].Location)
	again, err := Engine(raw, rules, Place{Registry: place.Registry, ByDigest: true})
	require.NoError(t, err)
	assert.Equal(t, string(raw), string(again))
	for text, says := range map[string]string{
		"[registries.search]\nregistries = []\n":          "is of the old form",
		"nonsense":                                        "cannot be read",
		"registry = [{location = \"hq.example/base\"}]\n": "in a way that is not changed here",
	} {
		_, err := Engine([]byte(text), rules[:1], place)
		assert.ErrorContains(t, err, says, text)
	}
}

func TestNodesFilesAreMergedInto(t *testing.T) {
	raw, err := Node(nil, "hq.example", "https://hq.example", Place{Registry: "tarn.larkspur.example", Authority: true}, "/ca.crt")
	require.NoError(t, err)
	assert.Equal(t, "server = \"https://hq.example\"\n\n[host.\"https://tarn.larkspur.example\"]\ncapabilities = [\"pull\", \"resolve\"]\nca = \"/ca.crt\"\n", string(raw))
	now := "server = \"https://elsewhere.example\" # stays\n\n[host.\"https://near.example\"]\n  capabilities = [\"pull\"]\n"
	raw, err = Node([]byte(now), "hq.example", "https://hq.example", place, "")
	require.NoError(t, err)
	assert.Equal(t, "server = \"https://elsewhere.example\" # stays\n\n[host.\"https://tarn.larkspur.example/v2/mirror\"]\ncapabilities = [\"pull\", \"resolve\"]\noverride_path = true\n\n[host.\"https://near.example\"]\n  capabilities = [\"pull\"]\n", string(raw))
	again, err := Node(raw, "hq.example", "https://hq.example", place, "")
	require.NoError(t, err)
	assert.Equal(t, string(raw), string(again))

	const folder = "/etc/containerd/certs.d"
	for now, says := range map[string]string{
		"": "version = 2\n\n[plugins.\"io.containerd.grpc.v1.cri\".registry]\n  config_path = \"" + folder + "\"\n",
		"version = 3\n[debug]\n  level = \"info\"\n":                                                     "version = 3\n[debug]\n  level = \"info\"\n\n[plugins.\"io.containerd.cri.v1.images\".registry]\n  config_path = \"" + folder + "\"\n",
		"version = 2\n[plugins.\"io.containerd.grpc.v1.cri\".registry]\n  config_path = \"\"\n[debug]\n": "version = 2\n[plugins.\"io.containerd.grpc.v1.cri\".registry]\n  config_path = \"" + folder + "\"\n[debug]\n",
	} {
		raw, in, err := NodeOwn([]byte(now), folder)
		require.NoError(t, err, now)
		assert.Equal(t, folder, in)
		assert.Equal(t, says, string(raw))
	}
	elsewhere := "version = 2\n[plugins.\"io.containerd.grpc.v1.cri\".registry]\n  config_path = \"/opt/certs\"\n"
	raw, in, err := NodeOwn([]byte(elsewhere), folder)
	require.NoError(t, err)
	assert.Equal(t, "/opt/certs", in)
	assert.Equal(t, elsewhere, string(raw))
	_, _, err = NodeOwn([]byte("version = 2\n[plugins.\"io.containerd.grpc.v1.cri\".registry.mirrors.\"a\"]\n  endpoint = []\n"), folder)
	assert.ErrorContains(t, err, "has its mirrors in itself")
}
