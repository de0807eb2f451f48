package carry

import (
	"archive/tar"
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"strings"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"
	v1 "github.com/opencontainers/image-spec/specs-go/v1"

	"warthesis/internal/flow/packing"
	"warthesis/internal/oci"
	"warthesis/internal/peer"
)

// The bounds of what is read of a release image: a text, its files, and all bytes of its
// layers, unpacked.
const (
	mostText     = 4 << 20
	mostFiles    = 500_000
	mostUnpacked = 8 << 30
	// zstdMemory bounds what unpacking takes of memory.
	zstdMemory = 128 << 20
	// deepestIndex is how deep indexes may stand in indexes.
	deepestIndex = 8
)

// Released returns the references that an image names which describes a release: in the text
// files of its layers, in layers that are texts themselves, and in the annotations of the
// children of an index. Of an index that names none, its first image is read, since images
// for several platforms have the same list.
func Released(ctx context.Context, from From, ref oci.Reference) ([]oci.Reference, error) {
	return released(ctx, from, ref, 0)
}

func released(ctx context.Context, from From, ref oci.Reference, depth int) ([]oci.Reference, error) {
	if depth > deepestIndex {
		return nil, oci.Errorf(oci.CodeManifestInvalid, "indexes stand in indexes more than %d deep", deepestIndex)
	}
	root, raw, err := from.Manifest(ctx, ref.Name, ref.Target())
	if err != nil {
		return nil, err
	}
	parsed, err := oci.ParseManifest(root.MediaType, raw)
	if err != nil {
		return nil, err
	}
	if parsed.IsIndex() {
		if all := named(parsed.Children); len(all) > 0 {
			return all, nil
		}
		if len(parsed.Children) == 0 {
			return nil, nil
		}
		one := ref
		one.Tag, one.Digest = "", parsed.Children[0].Digest
		return released(ctx, from, one, depth+1)
	}
	budget := int64(mostUnpacked)
	var all []oci.Reference
	for _, layer := range parsed.Layers {
		found, err := releasedBy(ctx, from, ref.Name, layer, &budget)
		if err != nil {
			return nil, fmt.Errorf("read the layer %s: %w", layer.Digest, err)
		}
		all = append(all, found...)
	}
	return all, nil
}

// named returns the references by which children of an index say what they are.
func named(children []oci.Descriptor) (all []oci.Reference) {
	for _, d := range children {
		if ref, err := oci.ParseReference(d.Annotations[v1.AnnotationRefName]); err == nil && strings.ContainsAny(ref.Registry, ".:") {
			all = append(all, ref.WithDigest(d.Digest))
		}
	}
	return all
}

// releasedBy reads one layer.
func releasedBy(ctx context.Context, from From, name oci.Name, layer oci.Descriptor, budget *int64) ([]oci.Reference, error) {
	body, _, err := from.OpenBlob(ctx, name, layer, 0)
	if err != nil {
		return nil, err
	}
	defer body.Close()
	sum := layer.Digest.Algorithm().Hash()
	packed := io.TeeReader(io.LimitReader(body, layer.Size+1), sum)
	plain, end, err := unpacked(packed)
	if err != nil {
		return nil, err
	}
	defer end()
	content := bufio.NewReader(&budgeted{plain, budget})
	var all []oci.Reference
	if isTar(content) {
		all, err = inTar(content)
	} else {
		all, err = inText(content)
	}
	if err != nil {
		return nil, err
	}
	// What stands behind the end of the tar belongs to the layer as well.
	if _, err := io.Copy(io.Discard, packed); err != nil {
		return nil, err
	}
	if fmt.Sprintf("%x", sum.Sum(nil)) != layer.Digest.Encoded() {
		return nil, oci.Errorf(oci.CodeDigestInvalid, "what came is something else")
	}
	return all, nil
}

// errTooMuch is a layer that unpacks to more than is read.
var errTooMuch = fmt.Errorf("the layers unpack to more than %d GiB", mostUnpacked>>30)

type budgeted struct {
	io.Reader
	left *int64
}

func (b *budgeted) Read(p []byte) (int, error) {
	n, err := b.Reader.Read(p)
	if *b.left -= int64(n); *b.left < 0 {
		return n, errTooMuch
	}
	return n, err
}

// unpacked returns what a layer holds, as its first bytes tell: with gzip, with zstd or
// plainly.
func unpacked(r io.Reader) (plain io.Reader, end func(), err error) {
	b := bufio.NewReaderSize(r, 64<<10)
	magic, err := b.Peek(4)
	if err != nil && !errors.Is(err, io.EOF) {
		return nil, nil, err
	}
	switch {
	case strings.HasPrefix(string(magic), "\x1f\x8b"):
		z, err := gzip.NewReader(b)
		if err != nil {
			return nil, nil, err
		}
		return z, func() { z.Close() }, nil
	case string(magic) == "\x28\xb5\x2f\xfd":
		z, err := zstd.NewReader(b, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(zstdMemory))
		if err != nil {
			return nil, nil, err
		}
		return z, z.Close, nil
	}
	return b, func() {}, nil
}

// isTar reports whether a tar begins here (POSIX.1, "ustar Interchange Format").
func isTar(r *bufio.Reader) bool {
	head, _ := r.Peek(512)
	return len(head) == 512 && string(head[257:262]) == "ustar"
}

// inTar reads the text files of a tar.
func inTar(r io.Reader) (all []oci.Reference, err error) {
	archive := tar.NewReader(r)
	for range mostFiles {
		header, err := archive.Next()
		if errors.Is(err, io.EOF) {
			return all, nil
		}
		if err != nil {
			return nil, err
		}
		if header.Typeflag != tar.TypeReg || header.Size > mostText {
			continue
		}
		found, err := inText(archive)
		if err != nil {
			return nil, err
		}
		all = append(all, found...)
	}
	return nil, fmt.Errorf("it has more than %d files", mostFiles)
}

// inText reads a text, where it is one and not too long.
func inText(r io.Reader) ([]oci.Reference, error) {
	raw, err := io.ReadAll(io.LimitReader(r, mostText+1))
	if err != nil || len(raw) > mostText {
		return nil, err
	}
	return packing.Mentions(raw), nil
}

// Listed returns references to the tags of a repository that a choice takes.
func Listed(ctx context.Context, from From, at oci.Reference, take func(oci.Tag) bool) ([]oci.Reference, error) {
	var all []oci.Reference
	err := eachTag(ctx, from, at.Name, func(tag oci.Tag) bool {
		if take(tag) {
			ref := at
			ref.Tag = tag
			all = append(all, ref)
		}
		return len(all) <= packing.MostNames
	})
	if err == nil && len(all) > packing.MostNames {
		err = oci.Errorf(oci.CodeQueryInvalid, "%s has more than %d such tags; name fewer", at, packing.MostNames)
	}
	return all, err
}

// eachTag visits the tags of a repository, those left out that list referrers, until visit
// says that it is enough.
func eachTag(ctx context.Context, from From, name oci.Name, visit func(oci.Tag) bool) error {
	for after := ""; ; {
		page, next, err := from.Tags(ctx, name, after)
		if err != nil {
			return err
		}
		for _, text := range page {
			if tag, err := oci.ParseTag(text); err == nil && !peer.IsReferrersTag(tag) && !visit(tag) {
				return nil
			}
		}
		if next == "" || next <= after {
			return nil
		}
		after = next
	}
}
