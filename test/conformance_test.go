package test

import (
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"testing"

	"github.com/stretchr/testify/require"

	"warthesis/internal/kit"
)

// TestTheSuiteOfTheStandardPasses runs the distribution specification's own suite.
// Deleting and referrers are not served yet.
func TestTheSuiteOfTheStandardPasses(t *testing.T) {
	s := kit.Start(t, t.TempDir())
	results := t.TempDir()
	suite := exec.Command("go", "tool", "conformance")
	suite.Env = append(os.Environ(), "OCI_REGISTRY="+s.Address, "OCI_TLS=disabled", "OCI_VERSION=dev", "OCI_RESULTS_DIR="+results, "OCI_LOG=error",
		"OCI_API_BLOBS_DELETE=false", "OCI_API_MANIFESTS_DELETE=false",
		"OCI_API_TAGS_DELETE=false", "OCI_API_REFERRER=false")
	out, err := suite.CombinedOutput()
	require.NoError(t, err, "%s", tail(out))
	require.FileExists(t, filepath.Join(results, "results.yaml"))
	counts := counted(out)
	require.Zero(t, counts["FAIL"], "%s", tail(out))
	require.Zero(t, counts["Error"], "%s", tail(out))
	require.Zero(t, counts["Skip"], "%s", tail(out))
	require.Greater(t, counts["Pass"], 500, "%s", tail(out))
}

var countLine = regexp.MustCompile(`(?m)^  (\w+)\.+: +(\d+)$`)

func counted(out []byte) map[string]int {
	counts := map[string]int{}
	for _, found := range countLine.FindAllSubmatch(out, -1) {
		n, err := strconv.Atoi(string(found[2]))
		if err == nil {
			counts[string(found[1])] = n
		}
	}
	return counts
}

func tail(out []byte) []byte { return out[max(0, len(out)-6000):] }
