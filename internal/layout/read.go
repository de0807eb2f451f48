package layout

import (
	"archive/tar"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	pathpkg "path"
	"path/filepath"
	"strconv"
	"strings"
	"unicode"

	"github.com/opencontainers/image-spec/specs-go/v1"

	"warthesis/internal/given"
	"warthesis/internal/oci"
)

const (
	// documentLimit is the largest index or manifest in bytes that is read whole.
	documentLimit = 16 << 20
	// entryLimit is how many files a tar may hold.
	entryLimit = 200_000
)

// Entry is one image, index or artifact that a layout offers.
type Entry struct {
	// Name is what the layout calls it, "" where it has no name.
	Name string
	oci.Descriptor
}

// Source is a layout opened for reading. It is safe for concurrent use.
type Source struct {
	files   files
	entries []Entry
	// made holds documents that stand in no file: an engine's tar has no manifest.
	made map[oci.Digest][]byte
	// at says where content lies that is not at its place by digest.
	at map[oci.Digest]string
}

// Content is a piece of a layout, readable from anywhere in it.
type Content interface {
	io.ReaderAt
	io.Closer
	Size() int64
}

// files is a folder or a tar.
type files interface {
	// open fails with fs.ErrNotExist for a file that is not there.
	open(name string) (Content, error)
	Close() error
}

// Open opens an image layout, a folder or a tar, or the tar that a container
// engine saved. Tars must not be compressed: content is read from anywhere in them.
func Open(at string) (*Source, error) {
	files, err := openFiles(at)
	if err != nil {
		return nil, err
	}
	s := &Source{files: files, made: map[oci.Digest][]byte{}, at: map[oci.Digest]string{}}
	if err := s.read(at); err != nil {
		return nil, errors.Join(err, files.Close())
	}
	return s, nil
}

func (s *Source) read(at string) error {
	err := s.readIndex()
	if errors.Is(err, fs.ErrNotExist) {
		err = s.readSaved()
	}
	if errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("%s is neither an OCI image layout (it has no index.json) nor an image that a container engine saved (it has no manifest.json)", at)
	}
	if err == nil && len(s.entries) == 0 {
		return fmt.Errorf("%s holds no image", at)
	}
	return err
}

func (s *Source) readIndex() error {
	raw, err := s.document(v1.ImageIndexFile)
	if err != nil {
		return err
	}
	// Two readers would see two images in it.
	if a, is := s.files.(*archive); is && a.twice != "" {
		return fmt.Errorf("%q stands in it twice; pack it anew", a.twice)
	}
	marker, err := s.document(v1.ImageLayoutFile)
	if err == nil {
		err = checkMarker(marker)
	}
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	index, err := oci.ParseManifest(oci.MediaTypeIndex, raw)
	if err != nil {
		return fmt.Errorf("its index.json: %w", err)
	}
	for _, d := range index.Children {
		s.entries = append(s.entries, Entry{d.Annotations[v1.AnnotationRefName], d})
	}
	return nil
}

func (s *Source) document(name string) ([]byte, error) {
	c, err := s.files.open(name)
	if err != nil {
		return nil, err
	}
	defer c.Close()
	if c.Size() > documentLimit {
		return nil, fmt.Errorf("%s has %d bytes, at most %d are read", name, c.Size(), documentLimit)
	}
	return io.ReadAll(io.NewSectionReader(c, 0, c.Size()))
}

// Entries returns what the layout offers, in its order.
func (s *Source) Entries() []Entry { return s.entries }

// Find returns the entry of that name or digest; with an empty name the only one.
func (s *Source) Find(name string) (Entry, error) {
	var found []Entry
	var names []string
	for _, e := range s.entries {
		if name == "" || e.Name == name || e.Digest.String() == name {
			found = append(found, e)
		}
		names = append(names, e.label())
	}
	switch {
	case len(found) == 1:
		return found[0], nil
	case len(found) == 0:
		return Entry{}, fmt.Errorf("there is no image %s in it; there are %s", name, strings.Join(names, ", "))
	}
	return Entry{}, fmt.Errorf("there are %d images in it: %s; say which one with --image", len(found), strings.Join(names, ", "))
}

func (e Entry) label() string {
	if e.Name == "" {
		return e.Digest.String()
	}
	// Whoever made the layout wrote it: it is one word among others, whatever it is.
	if strings.ContainsFunc(e.Name, unicode.IsSpace) {
		return strconv.Quote(e.Name)
	}
	return e.Name
}

// Open opens content by digest. It fails where the layout does not have it.
func (s *Source) Open(d oci.Descriptor) (Content, error) {
	if raw, ok := s.made[d.Digest]; ok {
		return memory{bytes.NewReader(raw)}, nil
	}
	name, ok := s.at[d.Digest]
	if !ok {
		name = blobPath(d.Digest)
	}
	c, err := s.files.open(name)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("the image names %s and the layout does not have it", d.Digest)
	}
	return c, err
}

// Close closes what is behind the layout.
func (s *Source) Close() error { return s.files.Close() }

func blobPath(d oci.Digest) string {
	return pathpkg.Join(v1.ImageBlobsDir, d.Algorithm().String(), d.Encoded())
}

type memory struct{ *bytes.Reader }

func (memory) Close() error { return nil }

func openFiles(at string) (files, error) {
	info, err := os.Stat(at)
	if err != nil {
		return nil, fmt.Errorf("open the image: %w", err)
	}
	if info.IsDir() {
		root, err := os.OpenRoot(at)
		if err != nil {
			return nil, fmt.Errorf("open the image: %w", err)
		}
		return folder{root}, nil
	}
	f, size, err := given.Open(os.OpenFile, at)
	if err != nil {
		return nil, fmt.Errorf("open the image: %w", err)
	}
	t, err := openTar(f, size)
	if err != nil {
		return nil, errors.Join(fmt.Errorf("read %s: %w", at, err), f.Close())
	}
	return t, nil
}

// folder is a layout in a folder; nothing in it leads out of it.
type folder struct{ root *os.Root }

func (f folder) Close() error { return f.root.Close() }

func (f folder) open(name string) (Content, error) {
	opened, size, err := given.Open(f.root.OpenFile, filepath.FromSlash(name))
	if err != nil {
		return nil, err
	}
	return sized{opened, size}, nil
}

type sized struct {
	*os.File
	size int64
}

func (s sized) Size() int64 { return s.size }

// archive is a layout in a tar: where each file begins, and how long it is.
type archive struct {
	file  *os.File
	files map[string]extent
	// twice is a name that stands in it more than once, "" for none.
	twice string
}

type extent struct{ offset, length int64 }

func (a *archive) Close() error { return a.file.Close() }

func (a *archive) open(name string) (Content, error) {
	e, ok := a.files[name]
	if !ok {
		return nil, fs.ErrNotExist
	}
	return section{io.NewSectionReader(a.file, e.offset, e.length)}, nil
}

type section struct{ *io.SectionReader }

func (section) Close() error { return nil }

var gzipMagic = []byte{0x1f, 0x8b}

func openTar(f *os.File, size int64) (*archive, error) {
	start := make([]byte, 2)
	if _, err := f.ReadAt(start, 0); err == nil && bytes.Equal(start, gzipMagic) {
		return nil, errors.New("it is compressed with gzip; unpack it with gunzip first")
	}
	a := &archive{file: f, files: map[string]extent{}}
	links := map[string]string{}
	reader := tar.NewReader(f)
	for count := 0; ; count++ {
		header, err := reader.Next()
		if err == io.EOF {
			break
		}
		if err != nil {
			return nil, fmt.Errorf("it is not a tar, or a damaged one: %w", err)
		}
		if count == entryLimit {
			return nil, fmt.Errorf("it has more than %d files", entryLimit)
		}
		offset, err := f.Seek(0, io.SeekCurrent)
		if err != nil {
			return nil, err
		}
		if isSparse(header) {
			return nil, fmt.Errorf("%q in it is a sparse file, which has other bytes than stand in the tar; pack it anew without --sparse", header.Name)
		}
		name := pathpkg.Clean(header.Name)
		switch header.Typeflag {
		case tar.TypeReg:
			if header.Size > size-offset {
				return nil, fmt.Errorf("it is cut off: %q does not stand in it whole", header.Name)
			}
			if _, is := a.files[name]; is {
				a.twice = name
			}
			a.files[name] = extent{offset, header.Size}
		case tar.TypeLink:
			links[name] = pathpkg.Clean(header.Linkname)
		case tar.TypeSymlink:
			links[name] = pathpkg.Join(pathpkg.Dir(name), header.Linkname)
		}
	}
	// Engines save a layer that appears twice as a link to the first.
	for name, target := range links {
		if e, ok := a.files[target]; ok {
			a.files[name] = e
		}
	}
	return a, nil
}

// isSparse reports whether a file of a tar has holes, so that what stands in the tar
// is not what the file is.
func isSparse(header *tar.Header) bool {
	for key := range header.PAXRecords {
		if strings.HasPrefix(key, "GNU.sparse.") {
			return true
		}
	}
	return header.Typeflag == tar.TypeGNUSparse
}

// savedImage is an entry of the manifest.json that container engines save.
type savedImage struct {
	Config   string
	RepoTags []string
	Layers   []string
}

// readSaved reads what a container engine saved: configs and layers without a
// manifest. The layers are taken as they are, uncompressed: their digests are
// then those that the config names.
func (s *Source) readSaved() error {
	raw, err := s.document("manifest.json")
	if err != nil {
		return err
	}
	var images []savedImage
	if err := json.Unmarshal(raw, &images); err != nil {
		return fmt.Errorf("its manifest.json cannot be read: %w", err)
	}
	for _, image := range images {
		d, err := s.makeManifest(image)
		if err != nil {
			return err
		}
		if len(image.RepoTags) == 0 {
			s.entries = append(s.entries, Entry{Descriptor: d})
		}
		for _, name := range image.RepoTags {
			s.entries = append(s.entries, Entry{name, d})
		}
	}
	return nil
}

func (s *Source) makeManifest(image savedImage) (oci.Descriptor, error) {
	config, err := s.describe(image.Config, oci.MediaTypeConfig)
	if err != nil {
		return oci.Descriptor{}, err
	}
	manifest := v1.Manifest{MediaType: oci.MediaTypeImage, Config: config, Layers: []oci.Descriptor{}}
	manifest.SchemaVersion = 2
	for _, name := range image.Layers {
		layer, err := s.describe(name, oci.MediaTypeLayer)
		if err != nil {
			return oci.Descriptor{}, err
		}
		manifest.Layers = append(manifest.Layers, layer)
	}
	raw, err := json.Marshal(manifest)
	if err != nil {
		return oci.Descriptor{}, err
	}
	d := oci.Descriptor{MediaType: oci.MediaTypeImage, Digest: oci.DigestOf(oci.SHA256, raw), Size: int64(len(raw))}
	s.made[d.Digest] = raw
	return d, nil
}

// describe hashes a file of an engine's tar and remembers where it lies.
func (s *Source) describe(name, mediaType string) (oci.Descriptor, error) {
	c, err := s.files.open(pathpkg.Clean(name))
	if err != nil {
		return oci.Descriptor{}, fmt.Errorf("its manifest.json names %q: %w", name, err)
	}
	defer c.Close()
	start := make([]byte, 2)
	if _, err := c.ReadAt(start, 0); err == nil && bytes.Equal(start, gzipMagic) && mediaType == oci.MediaTypeLayer {
		mediaType = oci.MediaTypeLayerGzip
	}
	digest, err := oci.SHA256.FromReader(io.NewSectionReader(c, 0, c.Size()))
	if err != nil {
		return oci.Descriptor{}, fmt.Errorf("read %q: %w", name, err)
	}
	s.at[digest] = pathpkg.Clean(name)
	return oci.Descriptor{MediaType: mediaType, Digest: digest, Size: c.Size()}, nil
}
