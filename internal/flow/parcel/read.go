package parcel

import (
	"archive/tar"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path"
	"strings"

	v1 "github.com/opencontainers/image-spec/specs-go/v1"

	"warthesis/internal/flow/packing"
	"warthesis/internal/given"
	"warthesis/internal/oci"
)

// The bounds of a file that claims to be a parcel: its files, and the bytes of one that is read
// whole.
const (
	mostFiles = 1_000_000
	mostMeta  = 256 << 20
)

// ErrNoParcel is a tar that is none of ours; it may be an image layout.
var ErrNoParcel = errors.New("it is no parcel")

// Fault is what is wrong with a parcel: it was cut, changed, or is none.
type Fault struct{ says string }

func (f Fault) Error() string { return f.says }

func fault(format string, args ...any) error { return Fault{fmt.Sprintf(format, args...)} }

// extent is where a file stands in a volume.
type extent struct{ offset, size int64 }

// volume is one file of a parcel, opened.
type volume struct {
	Header
	at    string
	file  *os.File
	size  int64
	files map[string]extent
	// kept are pieces that an earlier unloading left.
	kept []*os.File
	// order are the names in the order in which they stand.
	order []string
}

// open opens a file and reads where its files stand. Nothing in it is believed yet.
func open(at string) (*volume, error) {
	f, size, err := given.Open(os.OpenFile, at)
	if err != nil {
		return nil, err
	}
	v := &volume{at: at, file: f, size: size, files: map[string]extent{}}
	if err := v.scan(); err != nil {
		return nil, errors.Join(fmt.Errorf("%s: %w", at, err), f.Close())
	}
	return v, nil
}

func (v *volume) scan() error {
	reader := tar.NewReader(v.file)
	for first := true; ; first = false {
		header, err := reader.Next()
		if errors.Is(err, io.EOF) {
			break
		}
		switch {
		case err != nil && first:
			return ErrNoParcel
		case err != nil:
			return fault("it is cut off or damaged behind %q: %v", last(v.order), err)
		case first && header.Name != headerFile:
			return ErrNoParcel
		case header.Typeflag != tar.TypeReg:
			return fault("%q in it is a link or no plain file; a parcel has none", header.Name)
		case path.Clean(header.Name) != header.Name || path.IsAbs(header.Name) || strings.HasPrefix(header.Name, ".."):
			return fault("%q in it leads out of it", header.Name)
		case len(v.order) == mostFiles:
			return fault("it has more than %d files", mostFiles)
		}
		if _, twice := v.files[header.Name]; twice {
			return fault("%q stands in it twice", header.Name)
		}
		offset, err := v.file.Seek(0, io.SeekCurrent)
		if err != nil {
			return err
		}
		if header.Size > v.size-offset {
			return fault("it is cut off: %q does not stand in it whole", header.Name)
		}
		v.files[header.Name] = extent{offset, header.Size}
		v.order = append(v.order, header.Name)
	}
	raw, err := v.read(headerFile)
	if err != nil {
		return err
	}
	if err := json.Unmarshal(raw, &v.Header); err != nil {
		return fault("its %s is damaged: %v", headerFile, err)
	}
	if v.Format != format {
		return oci.Errorf(oci.CodeUnsupported, "it is a parcel of the format %d, and only %d is understood; a newer version may", v.Format, format)
	}
	for _, items := range v.Content {
		for _, i := range items {
			// Names of files are made of it.
			if _, err := oci.ParseDigest(i.Digest.String()); err != nil {
				return fault("its %s is damaged: %v", headerFile, err)
			}
			if i.Size < 0 || i.Offset < 0 || i.Length < 0 || i.Length > i.Size || i.Offset > i.Size-i.Length {
				return fault("its %s says that %s has %d bytes from %d on, of %d", headerFile, i.Digest, i.Length, i.Offset, i.Size)
			}
		}
	}
	if v.Volumes < 1 || v.Volumes != len(v.Content) || v.Volume < 1 || v.Volume > v.Volumes {
		return fault("its %s says that it is volume %d of %d", headerFile, v.Volume, v.Volumes)
	}
	return nil
}

func last(all []string) string {
	if len(all) == 0 {
		return ""
	}
	return all[len(all)-1]
}

// section returns a file of the volume.
func (v *volume) section(name string) (*io.SectionReader, error) {
	e, there := v.files[name]
	if !there {
		return nil, fault("%s is not in it", name)
	}
	return io.NewSectionReader(v.file, e.offset, e.size), nil
}

// read reads a file of the volume whole.
func (v *volume) read(name string) ([]byte, error) {
	s, err := v.section(name)
	if err != nil {
		return nil, err
	}
	if s.Size() > mostMeta {
		return nil, fault("%s in it has more than %d MiB", name, mostMeta>>20)
	}
	return io.ReadAll(s)
}

// readHeader reads what a file says that it is.
func readHeader(at string) (Header, error) {
	v, err := open(at)
	if err != nil {
		return Header{}, err
	}
	return v.Header, v.file.Close()
}

// Check reads a file of a parcel to its end: each of its bytes is what the packing of this
// content makes. It fails with a Fault, or with ErrNoParcel.
func Check(at string) error {
	v, err := open(at)
	if err != nil {
		return err
	}
	defer v.file.Close()
	if err := v.check(); err != nil {
		return fmt.Errorf("%s: %w", at, err)
	}
	return nil
}

// check compares sums, digests and the bytes between the files.
func (v *volume) check() error {
	listed, err := v.read(sumsFile)
	if err != nil {
		return err
	}
	sums := map[string]oci.Digest{}
	for line := range strings.Lines(string(listed)) {
		digest, name, _ := strings.Cut(strings.TrimSuffix(line, "\n"), "  ")
		sums[name] = oci.Digest(digest)
	}
	end := int64(0)
	for _, name := range v.order {
		e := v.files[name]
		before, err := headerOf(name, e.size)
		if err != nil {
			return err
		}
		if err := v.same(end, before, name); err != nil {
			return err
		}
		if end += int64(len(before)); end != e.offset {
			return fault("%s does not stand where it should", name)
		}
		section := io.NewSectionReader(v.file, e.offset, e.size)
		sum, err := oci.SHA256.FromReader(section)
		if err != nil {
			return err
		}
		if name != sumsFile && sum != sums[name] {
			return fault("%s in it was changed: its sum is not the one that was noted", name)
		}
		if err := v.digest(name, sum); err != nil {
			return err
		}
		end = e.offset + padded(e.size)
		if err := v.same(e.offset+e.size, make([]byte, end-e.offset-e.size), name); err != nil {
			return err
		}
	}
	if err := v.same(end, make([]byte, 2*blockSize), "its end"); err != nil {
		return err
	}
	if v.size != end+2*blockSize {
		return fault("%d bytes stand behind its end", v.size-end-2*blockSize)
	}
	return v.whole(sums)
}

// same compares bytes of the volume.
func (v *volume) same(at int64, want []byte, name string) error {
	is := make([]byte, len(want))
	if _, err := v.file.ReadAt(is, at); err != nil && !errors.Is(err, io.EOF) {
		return err
	}
	if !bytes.Equal(is, want) {
		return fault("the bytes around %s were changed, or are missing", name)
	}
	return nil
}

// digest compares the content of a blob with its name.
func (v *volume) digest(name string, sum oci.Digest) error {
	rest, is := strings.CutPrefix(name, "blobs/")
	if !is {
		return nil
	}
	digest, err := oci.ParseDigest(strings.Replace(rest, "/", ":", 1))
	if err != nil {
		return fault("%s is no place for content", name)
	}
	if digest.Algorithm() != oci.SHA256 {
		s, err := v.section(name)
		if err != nil {
			return err
		}
		if sum, err = digest.Algorithm().FromReader(s); err != nil {
			return err
		}
	}
	if sum != digest {
		return fault("%s is not what its digest says", name)
	}
	return nil
}

// whole checks that the volume has all that its header says, and that the header is that of
// what it describes.
func (v *volume) whole(sums map[string]oci.Digest) error {
	for name := range sums {
		if _, there := v.files[name]; !there {
			return fault("%s is missing in it", name)
		}
	}
	var meta []file
	for _, name := range []string{v1.ImageLayoutFile, v1.ImageIndexFile, listFile, needsFile} {
		raw, err := v.read(name)
		if err != nil {
			return err
		}
		meta = append(meta, file{name, raw})
	}
	if idOf(meta...) != v.ID {
		return fault("its ID is not that of what it describes")
	}
	for _, item := range v.Content[v.Volume-1] {
		if e, there := v.files[item.name()]; !there || e.size != item.bytes() {
			return fault("%s is missing in it, or has another size", item.name())
		}
	}
	return nil
}

// list reads the packing list of the parcel.
func (v *volume) list() (packing.List, []packing.Item, error) {
	raw, err := v.read(listFile)
	if err != nil {
		return packing.List{}, nil, err
	}
	list, err := packing.Read(raw)
	if err != nil {
		return list, nil, fault("its packing list cannot be read: %v", err)
	}
	items, err := list.Items(nil)
	if err != nil {
		return list, nil, fault("its packing list cannot be read: %v", err)
	}
	for _, item := range items {
		if !item.IsLocked() {
			return list, nil, fault("its packing list names %s without a digest", item.Ref)
		}
	}
	return list, items, nil
}

// needs reads what the parcel expects at the other side.
func (v *volume) needs() (all []Need, err error) {
	raw, err := v.read(needsFile)
	if err != nil {
		return nil, err
	}
	if err := json.Unmarshal(raw, &all); err != nil {
		return nil, fault("its %s is damaged: %v", needsFile, err)
	}
	for _, need := range all {
		if _, err := oci.ParseDigest(need.Digest.String()); err != nil {
			return nil, fault("its %s is damaged: %v", needsFile, err)
		}
		for _, name := range need.In {
			if _, err := oci.ParseName(string(name)); err != nil {
				return nil, fault("its %s is damaged: %v", needsFile, err)
			}
		}
	}
	return all, nil
}
