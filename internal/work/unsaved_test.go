package work

import (
	"context"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"warthesis/internal/record/runs"
	"warthesis/internal/record/schema"
)

// On a full disk the end of a run can't be recorded. It is recorded once that works again,
// and until then it is told as it is, and the next run of the kind goes on.
func TestTheEndOfARunThatCouldNotBeRecordedIsRecordedLater(t *testing.T) {
	path := filepath.Join(t.TempDir(), "records.db")
	h := open(t, path, Kind{Name: "count", Do: func(_ context.Context, g *Going) error {
		g.Report("counted")
		return nil
	}})
	defer h.close()
	pool := schema.OpenPool(path, "immediate", false, false)
	defer pool.Close()
	_, err := pool.Exec("CREATE TRIGGER full BEFORE UPDATE OF state ON runs WHEN NEW.state = 'done' BEGIN SELECT RAISE(ABORT, 'full'); END")
	require.NoError(t, err)
	run, _ := h.ask("count", "")
	eventually(t, "the run is over", func() bool {
		now, unsaved := h.Run(run.ID)
		return unsaved && now.State == runs.Done
	})
	kept, err := h.records.View(ctx).Runs().Get(run.ID)
	require.NoError(t, err)
	assert.NotEqual(t, runs.Done, kept.State)
	_, err = pool.Exec("DROP TRIGGER full")
	require.NoError(t, err)
	h.until(run.ID, runs.Done)
	next, joined := h.ask("count", "")
	assert.False(t, joined)
	h.until(next.ID, runs.Done)
}
