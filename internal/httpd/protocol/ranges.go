package protocol

import (
	"fmt"
	"strconv"
	"strings"

	"warthesis/internal/oci"
)

// byteRange is a part of content: length bytes from offset on.
type byteRange struct{ offset, length int64 }

// parseRange reads a Range header over content of the size (RFC 9110, section
// 14.2). A header that asks for several parts, or in another unit, is passed over
// as the RFC allows: ok is false and the whole is to be sent. It fails with
// CodeRangeInvalid where no byte of the content is in the range.
func parseRange(header string, size int64) (r byteRange, ok bool, err error) {
	spec, found := strings.CutPrefix(header, "bytes=")
	if !found || strings.Contains(spec, ",") {
		return byteRange{}, false, nil
	}
	first, last, found := strings.Cut(strings.TrimSpace(spec), "-")
	if !found {
		return byteRange{}, false, nil
	}
	if first == "" {
		n, valid := parseOffset(last)
		if !valid {
			return byteRange{}, false, nil
		}
		n = min(n, size)
		return byteRange{size - n, n}, n > 0, unsatisfiable(n > 0, size)
	}
	start, valid := parseOffset(first)
	if !valid {
		return byteRange{}, false, nil
	}
	end := size - 1
	if last != "" {
		given, valid := parseOffset(last)
		if !valid {
			return byteRange{}, false, nil
		}
		if given < start {
			return byteRange{}, false, unsatisfiable(false, size)
		}
		end = min(end, given)
	}
	return byteRange{start, end - start + 1}, start < size, unsatisfiable(start < size, size)
}

func unsatisfiable(fits bool, size int64) error {
	if fits {
		return nil
	}
	return oci.Errorf(oci.CodeRangeInvalid, "the range lies outside the content, which has %d bytes", size)
}

// parseChunkRange reads the Content-Range of a chunk, "first-last"
// (distribution-spec, "Pushing a blob in chunks"), also with the unit and the
// total of RFC 9110 around it.
func parseChunkRange(header string) (byteRange, error) {
	spec := strings.TrimPrefix(strings.TrimPrefix(header, "bytes "), "bytes=")
	spec, _, _ = strings.Cut(spec, "/")
	first, last, _ := strings.Cut(spec, "-")
	start, validStart := parseOffset(first)
	end, validEnd := parseOffset(last)
	if !validStart || !validEnd || end < start {
		return byteRange{}, oci.Errorf(oci.CodeBlobUploadInvalid, "the Content-Range of a chunk is written first-last, as in 0-1023, and this one is %q", header)
	}
	return byteRange{start, end - start + 1}, nil
}

// parseOffset reads a number of bytes: digits only, far from overflow.
func parseOffset(s string) (int64, bool) {
	if s == "" || len(s) > 18 || strings.Trim(s, "0123456789") != "" {
		return 0, false
	}
	n, err := strconv.ParseInt(s, 10, 64)
	return n, err == nil
}

// uploadRange writes how far an upload has come (distribution-spec, "Pushing a
// blob in chunks"). The form cannot say "nothing": like everybody, an upload
// without a byte says 0-0.
func uploadRange(offset int64) string {
	return fmt.Sprintf("0-%d", max(0, offset-1))
}
