package carry

import (
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"warthesis/internal/kit"
	"warthesis/internal/kit/line"
)

// A release goes over a line that is slow and loses packets, while the client, the source and
// the destination are killed, the source loses an image, and the destination fills up: it says
// what lacks, and goes on to the end when that is mended. FLOW_RELEASE says how many images
// the release has.
func TestAReleaseGoesOverALossyLine(t *testing.T) {
	if !line.Alone(t) {
		return
	}
	bad := line.Lossy{Each: 20 * time.Millisecond, Jitter: 10 * time.Millisecond, Loss: 0.02, Rate: 4 << 20}
	far, err := bad.Connect("10.78.0.1", "10.78.0.2")
	if err != nil {
		t.Skipf("no line can be made here: %v", err)
	}
	of := many("FLOW_RELEASE", 16)
	source := kit.Start(t, t.TempDir())
	to := kit.StartAt(t, "10.78.0.2:0", far.Do, t.TempDir(), "--listen-unencrypted")
	kit.LogInAs(t, to.Address, kit.Admin, kit.Password)
	shared := kit.Bytes(1, 1<<20)
	list := ""
	var images []kit.Image
	for i := range of {
		image := kit.NewImage(t, shared, kit.Bytes(uint64(2+i%7), 50_000), kit.Bytes(uint64(100+i), 60_000))
		images = append(images, image)
		name := fmt.Sprintf("rolling/part-%03d", i)
		kit.Must(t, "push", image.Layout(t), source.Address+"/"+name+":1.0.0")
		list += source.Address + "/" + name + ":1.0.0\n"
	}
	at := write(t, list)
	kit.AsAdmin(t, to, http.MethodPost, "/api/v1/namespaces", `{"name":"rolling"}`)
	came := func() (n int) {
		for i := range images {
			if tagOf(to, fmt.Sprintf("rolling/part-%03d", i), "1.0.0") != "" {
				n++
			}
		}
		return n
	}
	args := []string{"copy", at, to.Address, "--unencrypted", "--patience", "90s", "--without-room"}
	slowly := append(args[:len(args):len(args)], "--rate", "200KiB", "--at-once", "2")
	for round, kill := range []func(){source.Kill, to.Kill} {
		client := exec.Command(kit.Binary(t), slowly...)
		client.Env = kit.ClientEnvironment()
		said, err := os.Create(filepath.Join(t.TempDir(), "said"))
		require.NoError(t, err)
		client.Stdout, client.Stderr = said, said
		require.NoError(t, client.Start())
		explain := func() string {
			raw, err := os.ReadFile(said.Name())
			return fmt.Sprint(string(raw), err)
		}
		kit.Eventually(t, "some images came", func() bool { return came() >= (round+1)*of/5 }, explain)
		kill()
		[]*kit.Service{source, to}[round].Restart()
		before := came()
		kit.Eventually(t, "it goes on after a kill", func() bool { return came() > before }, explain)
		require.NoError(t, client.Process.Kill())
		_ = client.Wait()
	}
	// The source loses an image that has not come, and the destination is full soon.
	lost := of - 1
	require.Empty(t, tagOf(to, fmt.Sprintf("rolling/part-%03d", lost), "1.0.0"))
	kit.Must(t, "remove", fmt.Sprintf("%s/rolling/part-%03d:1.0.0", source.Address, lost), "--yes", "--reason", "a test")
	kit.Must(t, "quota", "set", to.Address+"/rolling", "100KiB", "--reason", "a test", "--unencrypted")
	report, result := copied(t, append(args[1:], "--without-missing")...)
	assert.Equal(t, 1, result.Code)
	assert.Positive(t, report.Totals.Lacks)
	assert.NotNil(t, report.GoesOn)
	kit.Must(t, "quota", "set", to.Address+"/rolling", "1GiB", "--reason", "a test", "--unencrypted")
	report, result = copied(t, append(args[1:], "--without-missing")...)
	assert.Equal(t, 1, result.Code)
	assert.Equal(t, 1, report.Totals.Lacks, "the one that the source lost")
	for i, image := range images[:lost] {
		assert.Equal(t, image.Manifest.Digest.String(), tagOf(to, fmt.Sprintf("rolling/part-%03d", i), "1.0.0"))
	}
	// The second time only what is new moves.
	next := kit.NewImage(t, shared, kit.Bytes(9000, 70_000))
	kit.Must(t, "push", next.Layout(t), source.Address+"/"+fmt.Sprintf("rolling/part-%03d", lost)+":1.0.0")
	_, result = copied(t, args[1:]...)
	assert.Contains(t, result.Err, "is taken with --anew", "it goes on with the digests that it began with")
	report, result = copied(t, append(args[1:], "--anew")...)
	assert.Zero(t, result.Code, result.Err)
	assert.True(t, report.Complete)
	assert.Equal(t, [2]int{1, of - 1}, [2]int{report.Totals.Copied, report.Totals.There})
	assert.Less(t, report.Totals.Sent, int64(100_000))
}
