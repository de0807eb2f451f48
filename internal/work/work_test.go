package work

import (
	"context"
	"errors"
	"path/filepath"
	"strconv"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.uber.org/goleak"

	"warthesis/internal/clock"
	"warthesis/internal/record"
	"warthesis/internal/record/runs"
)

var ctx = context.Background()

// house is work on records of its own, by a clock that is moved.
type house struct {
	*Works
	t       *testing.T
	path    string
	clock   *clock.Set
	records *record.Store
}

func open(t *testing.T, path string, kinds ...Kind) *house {
	clk := clock.NewSet(time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC))
	records, err := record.Open(path, func(before time.Duration) clock.Clock {
		clk.MoveTo(clk.Now().Add(before))
		return clk
	})
	require.NoError(t, err)
	w, err := New(records, clk, kinds...)
	require.NoError(t, err)
	w.Start()
	return &house{w, t, path, clk, records}
}

// close ends everything as a service does.
func (h *house) close() {
	h.Close()
	require.NoError(h.t, h.records.Update(ctx, "test", (*record.Tx).KeepServed))
	require.NoError(h.t, h.records.Close())
}

func (h *house) pass(span time.Duration) { h.clock.MoveTo(h.clock.Now().Add(span)) }

func (h *house) ask(kind, place string) (runs.Run, bool) {
	run, joined, err := h.Ask(ctx, Wish{Kind: kind, Place: place, Cause: runs.BySomebody, Account: 7})
	require.NoError(h.t, err)
	return run, joined
}

// until waits until a run, as the records have it, is in a state.
func (h *house) until(id int64, state runs.State) runs.Run {
	var run runs.Run
	eventually(h.t, string(state), func() bool {
		var err error
		run, err = h.records.View(ctx).Runs().Get(id)
		return err == nil && run.State == state
	})
	return run
}

func eventually(t *testing.T, what string, holds func() bool) {
	t.Helper()
	require.Eventually(t, holds, 20*time.Second, 2*time.Millisecond, what)
}

func fresh(t *testing.T, kinds ...Kind) *house {
	h := open(t, filepath.Join(t.TempDir(), "records.db"), kinds...)
	t.Cleanup(func() {
		h.close()
		goleak.VerifyNone(t, goleak.IgnoreCurrent())
	})
	return h
}

func TestOneRunOfAKindAndPlaceGoesAtATimeAndOthersJoinIt(t *testing.T) {
	enter, leave := make(chan *Going), map[string]chan struct{}{"a": make(chan struct{}), "b": make(chan struct{})}
	h := fresh(t, Kind{Name: "copy", Do: func(ctx context.Context, g *Going) error {
		enter <- g
		<-leave[g.Place()]
		g.Report("copied " + g.Place())
		return nil
	}})
	first, joined := h.ask("copy", "a")
	require.False(t, joined)
	going := <-enter
	same, joined := h.ask("copy", "a")
	assert.True(t, joined)
	assert.Equal(t, first.ID, same.ID)
	other, joined := h.ask("copy", "b")
	assert.False(t, joined, "another place is another run")
	<-enter

	// Behind the plan of the first a second waits, and a third joins that.
	going.Planned()
	second, joined := h.ask("copy", "a")
	assert.False(t, joined)
	third, joined := h.ask("copy", "a")
	assert.True(t, joined)
	assert.Equal(t, second.ID, third.ID)
	assert.Equal(t, runs.Waiting, h.until(second.ID, runs.Waiting).State)
	leave["a"] <- struct{}{}
	done := h.until(first.ID, runs.Done)
	assert.Equal(t, "copied a", done.Report)
	assert.EqualValues(t, 7, done.AskedBy)
	<-enter
	leave["a"] <- struct{}{}
	leave["b"] <- struct{}{}
	h.until(second.ID, runs.Done)
	h.until(other.ID, runs.Done)

	_, _, err := h.Ask(ctx, Wish{Kind: "dance"})
	assert.ErrorIs(t, err, ErrUnknown)
	assert.ErrorIs(t, h.Stop(ctx, first.ID), ErrUnknown, "what ended cannot be stopped")
}

func TestARunIsStoppedWithinASecond(t *testing.T) {
	h := fresh(t, Kind{Name: "endless", Do: func(_ context.Context, g *Going) error {
		g.Step("counting", "blobs", 0)
		for {
			g.Did(1)
			if err := g.Breathe(); err != nil {
				return err
			}
		}
	}})
	going, _ := h.ask("endless", "a")
	h.until(going.ID, runs.Going)
	next, _ := h.ask("endless", "b")
	h.until(next.ID, runs.Going)
	waiting, _ := h.ask("endless", "c")
	require.NoError(t, h.Stop(ctx, waiting.ID), "what waits is stopped too")
	h.until(waiting.ID, runs.Stopped)
	for _, run := range []runs.Run{going, next} {
		// Also while requests are served and it waits for most of the time.
		h.Budget().Sign()
		began := time.Now()
		require.NoError(t, h.Stop(ctx, run.ID))
		stopped := h.until(run.ID, runs.Stopped)
		assert.Less(t, time.Since(began), time.Second)
		assert.Positive(t, stopped.Done)
		assert.Equal(t, "blobs", stopped.Unit)
	}
}

func TestARunGoesOnWhereItWasAfterTheServiceEnded(t *testing.T) {
	path := filepath.Join(t.TempDir(), "records.db")
	var seen atomic.Value
	reached := make(chan struct{}, 1)
	kind := Kind{Name: "walk", Do: func(ctx context.Context, g *Going) error {
		at, _ := strconv.Atoi(g.Point())
		seen.Store(at)
		for ; at < 10; at++ {
			if at == 5 && len(reached) == 0 {
				reached <- struct{}{}
				<-ctx.Done()
				return ctx.Err()
			}
			if err := g.Keep(strconv.Itoa(at + 1)); err != nil {
				return err
			}
		}
		return nil
	}}
	h := open(t, path, kind)
	run, _ := h.ask("walk", "")
	eventually(t, "it got half way", func() bool { return len(reached) == 1 })
	h.close()

	h = open(t, path, kind)
	defer h.close()
	done := h.until(run.ID, runs.Done)
	assert.Equal(t, 5, seen.Load(), "it began where it was")
	assert.Equal(t, 1, done.Tries, "an end of the service is no try")
}

func TestWhatFailsIsTriedAgainAfterAPauseAndThenFails(t *testing.T) {
	var tries atomic.Int64
	h := fresh(t, Kind{Name: "flaky", Tries: 3, Do: func(context.Context, *Going) error {
		if tries.Add(1) == 2 {
			panic("lost")
		}
		return errors.New("no answer")
	}})
	run, _ := h.ask("flaky", "")
	for n := range 2 {
		eventually(t, "it failed once more", func() bool {
			row, err := h.records.View(ctx).Runs().Get(run.ID)
			return err == nil && row.State == runs.Waiting && row.Tries == n+1 && row.Error != ""
		})
		require.EqualValues(t, n+1, tries.Load())
		h.pass(15 * time.Second)
	}
	failed := h.until(run.ID, runs.Failed)
	assert.Equal(t, "no answer", failed.Error)
	assert.Equal(t, 3, failed.Tries)
}

func TestSchedulesGoByServedTimeAndTheClockOfTheWall(t *testing.T) {
	counts := map[string]*atomic.Int64{"often": {}, "nightly": {}, "by hand": {}}
	var kinds []Kind
	for name, when := range map[string]string{"often": "10m", "nightly": "30 3 * * *", "by hand": ""} {
		kind := Kind{Name: name, Light: name == "often", Do: func(context.Context, *Going) error {
			counts[name].Add(1)
			return nil
		}}
		if when != "" {
			var err error
			kind.When, err = ParseSchedule(when)
			require.NoError(t, err)
		}
		kinds = append(kinds, kind)
	}
	h := fresh(t, kinds...)
	is := func(often, nightly int64) {
		t.Helper()
		eventually(t, "they ran as often as they should", func() bool { return counts["often"].Load() == often && counts["nightly"].Load() == nightly })
		time.Sleep(lookEvery + 50*time.Millisecond)
		assert.Equal(t, []int64{often, nightly, 0}, []int64{counts["often"].Load(), counts["nightly"].Load(), counts["by hand"].Load()})
	}
	is(1, 0)
	h.pass(9 * time.Minute)
	is(1, 0)
	h.pass(time.Minute)
	is(2, 0)
	h.pass(16 * time.Hour)
	is(3, 1)
	// A clock that jumps a year lets each run once, and back lets none.
	h.pass(365 * 24 * time.Hour)
	is(4, 2)
	h.pass(-300 * 24 * time.Hour)
	is(4, 2)
	fares := h.Fares()
	for _, f := range fares {
		assert.Equal(t, f.Kind.Name == "by hand", f.Next < 0, f.Kind.Name)
	}
	for _, wrong := range []string{"", "10", "soon", "61 * * * *", "* * * * * *", "-5m"} {
		_, err := ParseSchedule(wrong)
		assert.ErrorContains(t, err, "30 3 * * 0", wrong)
	}
}

func TestLightWorkLeavesARunOnlyWhereItFails(t *testing.T) {
	var fails atomic.Bool
	var count atomic.Int64
	h := fresh(t, Kind{Name: "flush", Light: true, When: Every(3 * time.Second), Do: func(context.Context, *Going) error {
		count.Add(1)
		if fails.Load() {
			return errors.New("the disk is full")
		}
		return nil
	}})
	runs := func() []runs.Run {
		rows, err := h.records.View(ctx).Runs().List(runs.Filter{Limit: 10})
		require.NoError(t, err)
		return rows
	}
	again := func() {
		before := count.Load()
		eventually(t, "it ran again", func() bool {
			h.pass(3 * time.Second)
			return count.Load() > before
		})
	}
	again()
	assert.Empty(t, runs())
	fails.Store(true)
	again()
	again()
	eventually(t, "both failures are in one run", func() bool { rows := runs(); return len(rows) == 1 && rows[0].Tries >= 2 })
	assert.Equal(t, "the disk is full", h.Fares()[0].Failing)
	fails.Store(false)
	again()
	eventually(t, "it does well", func() bool { return h.Fares()[0].Failing == "" })
	assert.Len(t, runs(), 1)
}

// While requests are served a run has a tenth of the time, and all of it when they are
// over.
func TestRequestsWinButForATenth(t *testing.T) {
	budget := &Budget{}
	budget.runs.Add(1)
	over, cancel := context.WithCancel(ctx)
	defer cancel()
	work := func(span time.Duration) (worked time.Duration) {
		l := lung{budget: budget, since: time.Now()}
		for end := time.Now().Add(span); time.Now().Before(end); {
			began := time.Now()
			for time.Since(began) < 3*time.Millisecond {
			}
			worked += time.Since(began)
			require.NoError(t, l.breathe(over))
		}
		return worked
	}
	assert.Greater(t, work(300*time.Millisecond), 250*time.Millisecond, "it has all when nobody asks")
	requests := time.NewTicker(5 * time.Millisecond)
	defer requests.Stop()
	go func() {
		for {
			select {
			case <-requests.C:
				budget.Sign()
			case <-over.Done():
				return
			}
		}
	}()
	eventually(t, "it is busy", budget.Busy)
	assert.Less(t, work(time.Second), 200*time.Millisecond)
	cancel()
	l := lung{budget: budget, since: time.Now()}
	assert.ErrorIs(t, l.breathe(over), context.Canceled)
}
