package protocol

import "testing"

func FuzzRange(f *testing.F) {
	for _, seed := range []string{"bytes=0-0", "bytes=-1", "bytes=5-", "bytes=9-1", "bytes=99999999999999999999-1", "bytes=-", "x"} {
		f.Add(seed, int64(10))
		f.Add(seed, int64(0))
	}
	f.Fuzz(func(t *testing.T, header string, size int64) {
		if size < 0 {
			return
		}
		r, ok, err := parseRange(header, size)
		if ok && err == nil && (r.offset < 0 || r.length < 1 || r.offset+r.length > size) {
			t.Fatalf("%q of %d bytes is %+v", header, size, r)
		}
	})
}

func FuzzChunkRange(f *testing.F) {
	for _, seed := range []string{"0-9", "bytes 3-5/9", "5-4", "-", "0-999999999999999999"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, header string) {
		if r, err := parseChunkRange(header); err == nil && (r.offset < 0 || r.length < 1) {
			t.Fatalf("%q is %+v", header, r)
		}
	})
}

func FuzzRoute(f *testing.F) {
	for _, seed := range []string{"", "/", "/a/blobs/uploads/", "/blobs/uploads", "/manifests/x", "//tags/list", "/a/referrers/", "/_catalog"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, path string) {
		if r := parseRoute(path); len(r.name)+len(r.item) > len(path) {
			t.Fatalf("%q is %+v", path, r)
		}
	})
}
