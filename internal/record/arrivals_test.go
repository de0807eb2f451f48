package record

import (
	"bytes"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"warthesis/internal/record/arrivals"
)

// The reports of one account can't fill the disk, and erase those of nobody else.
func TestReportsOfOneAccountAreBounded(t *testing.T) {
	s, _ := fresh(t)
	report := func(account int64, bytesLong int) (id int64) {
		require.NoError(t, s.Update(ctx, "test", func(tx *Tx) error {
			a, err := tx.Arrivals().Make(arrivals.Arrival{Kind: arrivals.Copy, Name: "x", AccountID: account, State: arrivals.Going, BeganAt: tx.Now(), UntilServed: 1 << 60}, nil)
			if err != nil {
				return err
			}
			id, a.EndedAt, a.State, a.Report = a.ID, tx.Now(), arrivals.Done, bytes.Repeat([]byte("r"), bytesLong)
			return tx.Arrivals().Change(a)
		}))
		return id
	}
	has := func(id int64) bool {
		a, err := s.View(ctx).Arrivals().Get(id)
		require.NoError(t, err)
		return a.Report != nil
	}
	bystander := report(2, 100)
	var ids []int64
	for range 110 {
		ids = append(ids, report(1, 10))
	}
	assert.True(t, has(bystander), "of another account")
	kept := 0
	for _, id := range ids {
		if has(id) {
			kept++
		}
	}
	assert.Equal(t, 20, kept, "by number")
	assert.True(t, has(ids[len(ids)-1]), "the newest")

	var large []int64
	for range 6 {
		large = append(large, report(1, 900<<10))
	}
	for i, id := range large {
		assert.Equal(t, i >= 2, has(id), "by bytes, report %d", i)
	}
	assert.True(t, has(bystander))
}
