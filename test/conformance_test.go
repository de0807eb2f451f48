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

// TestTheSuiteOfTheStandardPasses runs the distribution specification's own suite
// for its next version, with every optional part. Sparse manifests alone are not
// tested: a manifest whose content is missing is refused.
func TestTheSuiteOfTheStandardPasses(t *testing.T) {
	t.Parallel()
	s := kit.Start(t, t.TempDir())
	// The report stays, for people to read.
	results, err := filepath.Abs(filepath.Join("..", "build", "conformance"))
	require.NoError(t, err)
	suite := exec.Command("go", "tool", "conformance")
	suite.Env = append(os.Environ(), "OCI_REGISTRY="+s.Address, "OCI_TLS=disabled", "OCI_USERNAME="+kit.Admin, "OCI_PASSWORD="+kit.Password, "OCI_VERSION=dev", "OCI_RESULTS_DIR="+results, "OCI_LOG=error")
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
