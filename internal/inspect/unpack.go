package inspect

import (
	"bufio"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"

	"warthesis/internal/oci"
)

// ErrUnpackedLarge: a layer unpacks to more than was asked for.
var ErrUnpackedLarge = errors.New("the layer unpacks to more than is read")

// zstdWindow bounds the memory that a layer can make its unpacking take, in bytes.
const zstdWindow = 64 << 20

// Unpack returns what a layer unpacks to, by the first bytes of it: gzip, zstd, or itself
// where it is neither. The caller closes it. It fails where the header is damaged.
func Unpack(r io.Reader) (io.ReadCloser, error) {
	in := bufio.NewReaderSize(r, 64<<10)
	start, err := in.Peek(4)
	if err != nil && !errors.Is(err, io.EOF) {
		return nil, err
	}
	switch {
	case len(start) >= 2 && start[0] == 0x1f && start[1] == 0x8b:
		return gzip.NewReader(in)
	case len(start) == 4 && start[0] == 0x28 && start[1] == 0xb5 && start[2] == 0x2f && start[3] == 0xfd:
		d, err := zstd.NewReader(in, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxWindow(zstdWindow), zstd.WithDecoderLowmem(true))
		if err != nil {
			return nil, err
		}
		return d.IOReadCloser(), nil
	}
	return io.NopCloser(in), nil
}

// UnpackedDigest returns the SHA-256 digest and the size in bytes of what a layer unpacks
// to. It reads at most most bytes of that, and fails with ErrUnpackedLarge where there is
// more; another error is that the layer is no whole stream of its kind.
func UnpackedDigest(r io.Reader, most int64) (oci.Digest, int64, error) {
	unpacked, err := Unpack(r)
	if err != nil {
		return "", 0, err
	}
	defer unpacked.Close()
	hash := sha256.New()
	n, err := io.Copy(hash, io.LimitReader(unpacked, most+1))
	switch {
	case err != nil:
		return "", n, err
	case n > most:
		return "", n, ErrUnpackedLarge
	}
	return oci.Digest(fmt.Sprintf("%s:%x", oci.SHA256, hash.Sum(nil))), n, nil
}
