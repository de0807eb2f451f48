package inspect

import (
	"bytes"
	"testing"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"warthesis/internal/oci"
)

func TestTheUnpackedDigestIsTheSameHoweverALayerIsCompressed(t *testing.T) {
	plain := bytes.Repeat([]byte("a key of the signal boxes\n"), 5000)
	want := oci.DigestOf(oci.SHA256, plain)
	var quick, best, other bytes.Buffer
	for level, out := range map[int]*bytes.Buffer{gzip.BestSpeed: &quick, gzip.BestCompression: &best} {
		w, err := gzip.NewWriterLevel(out, level)
		require.NoError(t, err)
		_, err = w.Write(plain)
		require.NoError(t, err)
		require.NoError(t, w.Close())
	}
	w, err := zstd.NewWriter(&other)
	require.NoError(t, err)
	_, err = w.Write(plain)
	require.NoError(t, err)
	require.NoError(t, w.Close())
	for _, layer := range [][]byte{plain, quick.Bytes(), best.Bytes(), other.Bytes()} {
		d, size, err := UnpackedDigest(bytes.NewReader(layer), int64(len(plain)))
		require.NoError(t, err)
		assert.Equal(t, want, d)
		assert.EqualValues(t, len(plain), size)
		_, _, err = UnpackedDigest(bytes.NewReader(layer), int64(len(plain)-1))
		assert.ErrorIs(t, err, ErrUnpackedLarge, "a layer that unpacks to very much is not read to its end")
	}
	_, _, err = UnpackedDigest(bytes.NewReader(best.Bytes()[:best.Len()-9]), 1<<20)
	assert.Error(t, err)
	d, _, err := UnpackedDigest(bytes.NewReader(nil), 1)
	require.NoError(t, err)
	assert.Equal(t, oci.DigestOf(oci.SHA256, nil), d)
}
