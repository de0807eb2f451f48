package registry

import (
	"os"
	"testing"

	"github.com/stretchr/testify/require"

	"warthesis/internal/blob"
	"warthesis/internal/oci"
	"warthesis/internal/record"
	"warthesis/internal/record/bans"
)

// What can't be read may be a banned layer: it is not let in.
func TestALayerThatCantBeReadIsNotTakenForAllowed(t *testing.T) {
	r, _, _ := open(t, Limits{})
	d := oci.DigestOf(oci.SHA256, []byte("secret"))
	require.NoError(t, r.records.Update(ctx, "test", func(tx *record.Tx) error {
		_, err := tx.Bans().Add(bans.Ban{Digest: d, Unpacked: d, UnpackedSize: 6, BannedAt: tx.Now()})
		return err
	}))
	// Reading a folder fails.
	folder := t.TempDir()
	_, err := r.unpackedFor(ctx, "a/b", func() (blob.File, error) { return os.Open(folder) })
	require.Error(t, err)
}
