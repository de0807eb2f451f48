package line

import (
	"os"
	"os/exec"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"
)

// alone names what tells a test that it is in a network of its own.
const alone = "KIT_NETWORK"

// Alone runs a test once more, in a network of its own, so that nothing else meets its line:
// there it returns true. It skips the test where no such network can be made.
func Alone(t *testing.T) bool {
	if os.Getenv(alone) != "" {
		return true
	}
	t.Parallel()
	again := exec.Command(os.Args[0], "-test.run", "^"+t.Name()+"$", "-test.v")
	again.Env = append(os.Environ(), alone+"=1")
	again.SysProcAttr = &syscall.SysProcAttr{Cloneflags: syscall.CLONE_NEWNET}
	out, err := again.CombinedOutput()
	if err != nil && len(out) == 0 {
		t.Skipf("no network of its own can be made here: %v", err)
	}
	require.NoError(t, err, "%s", out)
	if strings.Contains(string(out), "--- SKIP") {
		t.Skip(string(out))
	}
	t.Logf("%s", out)
	return false
}
