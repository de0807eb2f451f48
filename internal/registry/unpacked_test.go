package registry

import (
	"os"
	"path/filepath"
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
	_, err := r.unpackedFor(ctx, "a/b", "", func() (blob.File, error) { return os.Open(folder) })
	require.Error(t, err)
}

// Whoever mounts a large layer again and again keeps the registry busy once.
func TestContentThatIsHereIsUnpackedOnce(t *testing.T) {
	r, _, _ := open(t, Limits{})
	secret := oci.DigestOf(oci.SHA256, []byte("secret"))
	require.NoError(t, r.records.Update(ctx, "test", func(tx *record.Tx) error {
		_, err := tx.Bans().Add(bans.Ban{Digest: secret, Unpacked: secret, UnpackedSize: 6, BannedAt: tx.Now()})
		return err
	}))
	raw := filepath.Join(t.TempDir(), "layer")
	require.NoError(t, os.WriteFile(raw, []byte("other layer"), 0o600))
	opened := 0
	for range 3 {
		u, err := r.unpackedFor(ctx, "a/b", oci.DigestOf(oci.SHA256, []byte("other layer")), func() (blob.File, error) {
			opened++
			return os.Open(raw)
		})
		require.NoError(t, err)
		require.True(t, u.looked)
	}
	require.Equal(t, 1, opened)
}
