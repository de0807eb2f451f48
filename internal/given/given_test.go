package given

import (
	"os"
	"path/filepath"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestOnlyPlainFilesOfTheirSizeAreRead(t *testing.T) {
	folder := t.TempDir()
	file := filepath.Join(folder, "file")
	require.NoError(t, os.WriteFile(file, []byte("12345"), 0o600))
	raw, err := Read(file, 5)
	require.NoError(t, err)
	assert.Equal(t, "12345", string(raw))
	_, err = Read(file, 4)
	assert.ErrorContains(t, err, "is larger than")
	pipe := filepath.Join(folder, "pipe")
	require.NoError(t, syscall.Mkfifo(pipe, 0o600))
	for _, other := range []string{pipe, folder, "/dev/zero"} {
		_, err := Read(other, 100)
		assert.ErrorIs(t, err, ErrNotPlain, other)
	}
	_, err = Read(filepath.Join(folder, "none"), 5)
	assert.ErrorIs(t, err, os.ErrNotExist)
}
