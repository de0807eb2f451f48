package carry

import (
	"archive/tar"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"warthesis/internal/kit"
)

// told is what tell-clients says to scripts.
type told struct {
	RunsNotHere []string `json:"runs_not_here"`
	Outside     []string
	NotHere     []string `json:"not_here"`
	Tested      string
	TestFailed  string `json:"test_failed"`
}

// The files are read by an engine, which then pulls here by the name that it always had, while
// the registry of that name is gone.
func TestAnEngineLooksHereFirstByTheFilesThatItIsGiven(t *testing.T) {
	t.Parallel()
	engine, err := exec.LookPath("podman")
	if err != nil {
		t.Skip("no container engine is installed")
	}
	f, s := kit.StartForeign(t, nil), kit.Start(t, t.TempDir())
	layer, err := os.ReadFile(repack(t, []entry{{tar.Header{Typeflag: tar.TypeReg, Name: "etc/part", Mode: 0o644}, []byte("part")}}))
	require.NoError(t, err)
	f.Put("rolling/part", "1.0.0", kit.NewImage(t, layer))
	list := write(t, f.Address+"/rolling/part:1.0.0\n"+f.Address+"/rolling/later:1.0.0\n")
	kit.Must(t, "copy", write(t, f.Address+"/rolling/part:1.0.0\n"), s.Address+"/mirror")
	kit.AsAdmin(t, s, http.MethodPost, "/api/v1/accounts", `{"name":"cluster-north","kind":"machine"}`)
	kit.Must(t, "grant", s.Address+"/mirror", "reader", "cluster-north")
	folder := t.TempDir()
	put := func(name, text string) string {
		at := filepath.Join(folder, name)
		require.NoError(t, os.WriteFile(at, []byte(text), 0o644))
		return at
	}
	now := put("now.conf", "# ours\nunqualified-search-registries = [\"registry.larkspur.example\"]\n\n[[registry]]\nlocation = \""+f.Address+"\"\ninsecure = true\n")
	pods := put("pods", f.Address+"/rolling/part:1.0.0\n"+f.Address+"/rolling/other:2\nother.example/probe:1\n")
	to := filepath.Join(folder, "told")
	// Where one file cannot be merged into, none is written, and no token made.
	tokens := string(kit.AsAdmin(t, s, http.MethodGet, "/api/v1/tokens?account=cluster-north", ""))
	broken := kit.Run(t, "tell-clients", list, s.Address+"/mirror", to, "--node-config", put("broken.toml", "nonsense"), "--account", "cluster-north")
	assert.Equal(t, 2, broken.Code)
	assert.NoDirExists(t, to)
	assert.Equal(t, tokens, string(kit.AsAdmin(t, s, http.MethodGet, "/api/v1/tokens?account=cluster-north", "")))
	var said told
	result := kit.Run(t, "tell-clients", list, s.Address+"/mirror", to, "--engine", now, "--pods", pods, "--account", "cluster-north", "--output", "json")
	require.Zero(t, result.Code, result.Err)
	require.NoError(t, json.Unmarshal([]byte(result.Out), &said))
	assert.Equal(t, told{[]string{f.Address + "/rolling/other:2"}, []string{"other.example/probe:1"}, []string{f.Address + "/rolling/later:1.0.0"}, s.Address + "/mirror/rolling/part:1.0.0", ""}, said)
	f.Server.Close()
	// The engine wants a short name.
	engineRun, err := os.MkdirTemp("", "run")
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(engineRun) })
	pull := exec.Command(engine, "--root", filepath.Join(folder, "root"), "--runroot", engineRun, "--storage-driver", "vfs", "pull", "-q",
		"--signature-policy", put("policy.json", `{"default":[{"type":"insecureAcceptAnything"}]}`), "--authfile", filepath.Join(to, "pull-secret.json"), f.Address+"/rolling/part:1.0.0")
	pull.Env = append(os.Environ(), "CONTAINERS_REGISTRIES_CONF="+filepath.Join(to, "registries.conf"), "TMPDIR="+folder, "XDG_RUNTIME_DIR="+folder)
	out, err := pull.CombinedOutput()
	require.NoError(t, err, "%s", out)
	fetchOnANode(t, to, f.Address+"/rolling/part:1.0.0", s.Address)
	// Its login pulls, and nothing else.
	raw, err := os.ReadFile(filepath.Join(to, "pull-secret.json"))
	require.NoError(t, err)
	assert.Contains(t, string(raw), s.Address)
	page, err := os.ReadFile(filepath.Join(to, "WHERE-EACH-GOES.md"))
	require.NoError(t, err)
	for _, says := range []string{"/etc/containers/registries.conf", "/etc/containerd/certs.d/" + f.Address + "/hosts.toml", "other.example/probe:1", "A pull of"} {
		assert.Contains(t, string(page), says)
	}
}

// fetchOnANode lets the runtime of a cluster node fetch an image by its files.
func fetchOnANode(t *testing.T, told, reference, registry string) {
	runtime, err := exec.LookPath("containerd")
	if err != nil {
		t.Log("no runtime of nodes is installed")
		return
	}
	folder, err := os.MkdirTemp("", "node")
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(folder) })
	config := filepath.Join(folder, "config.toml")
	text := fmt.Sprintf("version = 2\nroot = %q\nstate = %q\ndisabled_plugins = [\"io.containerd.grpc.v1.cri\"]\n[grpc]\n  address = %q\n", folder+"/root", folder+"/state", folder+"/s")
	require.NoError(t, os.WriteFile(config, []byte(text), 0o600))
	node := exec.Command(runtime, "--config", config)
	require.NoError(t, node.Start())
	t.Cleanup(func() {
		_ = node.Process.Kill()
		_ = node.Wait()
	})
	raw, err := os.ReadFile(filepath.Join(told, "pull-secret.json"))
	require.NoError(t, err)
	var logins struct {
		Auths map[string]struct{ Auth string }
	}
	require.NoError(t, json.Unmarshal(raw, &logins))
	user, err := base64.StdEncoding.DecodeString(logins.Auths[registry].Auth)
	require.NoError(t, err)
	var out []byte
	kit.Eventually(t, "the node fetches it", func() bool {
		out, err = exec.Command("ctr", "--address", folder+"/s", "content", "fetch", "--hosts-dir", filepath.Join(told, "certs.d"), "--user", string(user), reference).CombinedOutput()
		return err == nil
	}, func() string { return string(out) })
}
