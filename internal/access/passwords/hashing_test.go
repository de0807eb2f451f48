package passwords

import (
	"context"
	"slices"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"warthesis/internal/clock"
)

var ctx = context.Background()

// Addresses take turns: a crowd at one keeps nobody waiting at another.
func TestACrowdAtOneAddressKeepsNobodyWaitingElsewhere(t *testing.T) {
	h, err := NewHashers(clock.NewSet(time.Now()), make(chan struct{}))
	require.NoError(t, err)
	gate := make(chan struct{})
	var all sync.WaitGroup
	var order []string
	var mu sync.Mutex
	enter := func(address string) {
		all.Go(func() {
			assert.NoError(t, h.Do(ctx, address, func() {
				mu.Lock()
				order = append(order, address)
				mu.Unlock()
				<-gate
			}))
		})
	}
	waits := func(many int) {
		require.Eventually(t, func() bool {
			h.mu.Lock()
			defer h.mu.Unlock()
			return h.waiting == many
		}, 10*time.Second, time.Millisecond)
	}
	for range atOnce + mostFromOne {
		enter("192.0.2.1")
	}
	waits(mostFromOne)
	assert.ErrorIs(t, h.Do(ctx, "192.0.2.1", func() {}), ErrCrowded)
	enter("192.0.2.2")
	waits(mostFromOne + 1)
	gone, cancel := context.WithCancel(ctx)
	cancel()
	assert.ErrorIs(t, h.Do(gone, "192.0.2.3", func() {}), context.Canceled)
	// One goes at a time, so that the order is that of the turns.
	for begun := atOnce; begun < atOnce+mostFromOne+1; begun++ {
		gate <- struct{}{}
		require.Eventually(t, func() bool {
			mu.Lock()
			defer mu.Unlock()
			return len(order) > begun
		}, 10*time.Second, time.Millisecond)
	}
	close(gate)
	all.Wait()
	require.Eventually(t, func() bool {
		h.mu.Lock()
		defer h.mu.Unlock()
		return h.running == 0 && h.waiting == 0
	}, 10*time.Second, time.Millisecond)
	assert.Less(t, slices.Index(order, "192.0.2.2"), 2*atOnce+2)
}
