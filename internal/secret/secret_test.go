package secret

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestASecretIsReadByItsKeyForWhatItIsOfAlone(t *testing.T) {
	file := filepath.Join(t.TempDir(), "key")
	box, err := Open(file)
	require.NoError(t, err)
	info, err := os.Stat(file)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())

	kept := box.Keep([]byte("a password"), "peer 1")
	assert.NotContains(t, string(kept), "password")
	assert.NotEqual(t, kept, box.Keep([]byte("a password"), "peer 1"), "equal secrets do not look alike")
	again, err := Open(file)
	require.NoError(t, err)
	read, err := again.Read(kept, "peer 1")
	require.NoError(t, err)
	assert.Equal(t, "a password", string(read))

	_, err = box.Read(kept, "peer 2")
	assert.ErrorIs(t, err, ErrUnreadable, "that of one is none of another")
	kept[len(kept)-1] ^= 1
	_, err = box.Read(kept, "peer 1")
	assert.ErrorIs(t, err, ErrUnreadable)
	other, err := Open(file + "2")
	require.NoError(t, err)
	_, err = other.Read(box.Keep([]byte("x"), ""), "")
	assert.ErrorIs(t, err, ErrUnreadable)
	require.NoError(t, os.WriteFile(file, []byte("short"), 0o600))
	_, err = Open(file)
	assert.ErrorContains(t, err, "is no key")
}
