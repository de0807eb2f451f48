package protocol

import "strings"

// kind is what a path of the protocol asks for.
type kind int

const (
	nothing kind = iota
	base
	blobPath
	uploadsPath
	uploadPath
	manifestPath
	tagsPath
	referrersPath
	cataloguePath
	digestsPath
	extensionsPath
)

// route is a path of the protocol taken apart. The parts are as they came:
// nothing is checked but the shape.
type route struct {
	kind kind
	name string
	// item is the digest, the upload's id or the manifest's target.
	item string
}

// parseRoute reads the path behind /v2. It reads from the right, because a
// repository may be called a/blobs/uploads: the last words say what is asked for
// and all before them is the name (distribution-spec, "Endpoints").
func parseRoute(path string) route {
	if path == "" || path == "/" {
		return route{kind: base}
	}
	if path == "/_catalog" {
		return route{kind: cataloguePath}
	}
	if path == "/_oci/ext/discover" {
		return route{kind: extensionsPath}
	}
	words := strings.Split(strings.TrimPrefix(path, "/"), "/")
	n := len(words)
	name := func(behind int) string { return strings.Join(words[:n-behind], "/") }
	is := func(at int, word string) bool { return n-at > 0 && words[n-at] == word }
	switch {
	case is(1, "") && is(2, "uploads") && is(3, "blobs"):
		return route{uploadsPath, name(3), ""}
	case is(1, "uploads") && is(2, "blobs"):
		return route{uploadsPath, name(2), ""}
	case is(2, "uploads") && is(3, "blobs"):
		return route{uploadPath, name(3), words[n-1]}
	case is(2, "blobs"):
		return route{blobPath, name(2), words[n-1]}
	case is(2, "manifests"):
		return route{manifestPath, name(2), words[n-1]}
	case is(2, "referrers"):
		return route{referrersPath, name(2), words[n-1]}
	case is(1, "digests") && is(2, "tags") && is(3, extension):
		return route{digestsPath, name(3), ""}
	case is(1, "list") && is(2, "tags"):
		return route{tagsPath, name(2), ""}
	}
	return route{}
}
