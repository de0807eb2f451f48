package demo

import (
	"archive/tar"
	"bytes"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"hash/fnv"
	"math/rand/v2"
	"strings"

	"github.com/klauspost/compress/gzip"
	"github.com/opencontainers/image-spec/specs-go"
	v1 "github.com/opencontainers/image-spec/specs-go/v1"

	"warthesis/internal/oci"
)

// content is bytes with their descriptor.
type content struct {
	oci.Descriptor
	raw []byte
}

func newContent(mediaType string, raw []byte) content {
	return content{oci.Descriptor{MediaType: mediaType, Digest: oci.DigestOf(oci.SHA256, raw), Size: int64(len(raw))}, raw}
}

// layer is a layer with the step that made it.
type layer struct {
	content
	diffID oci.Digest
	step   string
}

// image is what one push brings: documents, children before parents, and blobs.
type image struct {
	blobs     []content
	documents []content
}

func (i image) root() content { return i.documents[len(i.documents)-1] }

// random returns a source of numbers that a seed decides, on every machine alike.
func random(seed string) *rand.Rand {
	h := fnv.New128a()
	h.Write([]byte(seed))
	sum := h.Sum(nil)
	var a, b uint64
	for i := range 8 {
		a, b = a<<8|uint64(sum[i]), b<<8|uint64(sum[8+i])
	}
	return rand.New(rand.NewPCG(a, b))
}

var words = strings.Fields(`rail night berth platform signal carriage sleeper lantern timetable valley
bridge tunnel conductor whistle station ticket window blanket corridor coupling brake telemetry relay
points junction siding depot engine driver linen breakfast pillow ladder cabin route delay arrival`)

// prose returns text of about the size, as compressible as text is.
func prose(r *rand.Rand, size int) []byte {
	var b bytes.Buffer
	for b.Len() < size {
		b.WriteString(words[r.IntN(len(words))])
		b.WriteByte(" \n"[r.IntN(12)/11])
	}
	return b.Bytes()
}

// machineCode returns bytes of the size that hardly compress.
func machineCode(r *rand.Rand, size int) []byte {
	b := make([]byte, 0, size+8)
	for len(b) < size {
		b = binary.LittleEndian.AppendUint64(b, r.Uint64())
	}
	return b[:size]
}

// file is a file of a layer.
type file struct {
	name string
	mode int64
	raw  []byte
}

// newLayer packs files into a layer. Neither tar nor gzip carries a time, so that
// the digest depends on the files alone.
func newLayer(step string, files []file) (layer, error) {
	var plain, packed bytes.Buffer
	w := tar.NewWriter(&plain)
	for _, f := range files {
		header := &tar.Header{Typeflag: tar.TypeReg, Name: f.name, Mode: f.mode, Size: int64(len(f.raw)), Format: tar.FormatUSTAR}
		if err := w.WriteHeader(header); err != nil {
			return layer{}, err
		}
		if _, err := w.Write(f.raw); err != nil {
			return layer{}, err
		}
	}
	if err := w.Close(); err != nil {
		return layer{}, err
	}
	z := gzip.NewWriter(&packed)
	if _, err := z.Write(plain.Bytes()); err != nil {
		return layer{}, err
	}
	if err := z.Close(); err != nil {
		return layer{}, err
	}
	return layer{newContent(oci.MediaTypeLayerGzip, packed.Bytes()), oci.DigestOf(oci.SHA256, plain.Bytes()), step}, nil
}

// run is how an image runs.
type run struct {
	user, directory string
	entrypoint, cmd []string
	env             []string
	ports           []string
	labels          map[string]string
}

// newImage makes a container image of one platform.
func newImage(p oci.Platform, layers []layer, r run) (image, error) {
	config := v1.Image{Platform: p}
	config.RootFS.Type = "layers"
	config.Config = v1.ImageConfig{
		User: r.user, WorkingDir: r.directory, Entrypoint: r.entrypoint, Cmd: r.cmd,
		Env: append([]string{"PATH=/usr/bin:/bin"}, r.env...), Labels: r.labels,
	}
	for _, port := range r.ports {
		if config.Config.ExposedPorts == nil {
			config.Config.ExposedPorts = map[string]struct{}{}
		}
		config.Config.ExposedPorts[port] = struct{}{}
	}
	manifest := v1.Manifest{Versioned: specs.Versioned{SchemaVersion: 2}, MediaType: oci.MediaTypeImage}
	var made image
	for _, l := range layers {
		config.RootFS.DiffIDs = append(config.RootFS.DiffIDs, l.diffID)
		config.History = append(config.History, v1.History{CreatedBy: l.step})
		manifest.Layers = append(manifest.Layers, l.Descriptor)
		made.blobs = append(made.blobs, l.content)
	}
	config.History = append(config.History, v1.History{CreatedBy: "set entrypoint " + strings.Join(r.entrypoint, " "), EmptyLayer: true})
	raw, err := json.Marshal(config)
	if err != nil {
		return image{}, err
	}
	packed := newContent(oci.MediaTypeConfig, raw)
	made.blobs = append(made.blobs, packed)
	manifest.Config = packed.Descriptor
	return made.document(oci.MediaTypeImage, manifest)
}

// document adds a document to the image, behind those that it names.
func (i image) document(mediaType string, value any) (image, error) {
	raw, err := json.MarshalIndent(value, "", "  ")
	if err != nil {
		return image{}, err
	}
	i.documents = append(i.documents, newContent(mediaType, raw))
	return i, nil
}

// newIndex joins the images of several platforms.
func newIndex(platforms []oci.Platform, images []image, annotations map[string]string) (image, error) {
	index := v1.Index{Versioned: specs.Versioned{SchemaVersion: 2}, MediaType: oci.MediaTypeIndex, Annotations: annotations}
	var made image
	for n, child := range images {
		made.blobs = append(made.blobs, child.blobs...)
		made.documents = append(made.documents, child.documents...)
		entry := child.root().Descriptor
		entry.Platform = &platforms[n]
		index.Manifests = append(index.Manifests, entry)
	}
	return made.document(oci.MediaTypeIndex, index)
}

// newPackage makes an artifact that is no container image.
func newPackage(artifactType, title string, raw []byte, annotations map[string]string) (image, error) {
	empty := newContent(oci.MediaTypeEmpty, []byte("{}"))
	body := newContent("application/yaml", raw)
	body.Annotations = map[string]string{v1.AnnotationTitle: title}
	made := image{blobs: []content{empty, body}}
	return made.document(oci.MediaTypeImage, v1.Manifest{
		Versioned: specs.Versioned{SchemaVersion: 2}, MediaType: oci.MediaTypeImage, ArtifactType: artifactType,
		Config: empty.Descriptor, Layers: []oci.Descriptor{body.Descriptor}, Annotations: annotations,
	})
}

// platformLayer makes one of the layers that images share.
func platformLayer(kind, version string, p oci.Platform, code, text int) (layer, error) {
	seed := fmt.Sprintf("%s %s %s", kind, version, oci.PlatformString(&p))
	r := random(seed)
	return newLayer(fmt.Sprintf("add %s %s", kind, version), []file{
		{fmt.Sprintf("usr/lib/%s/core.so", kind), 0o755, machineCode(r, code)},
		{fmt.Sprintf("usr/lib/%s/extra.so", kind), 0o755, machineCode(r, code/3)},
		{fmt.Sprintf("usr/share/doc/%s/README", kind), 0o644, prose(random(kind+version), text)},
		{fmt.Sprintf("etc/%s-release", kind), 0o644, []byte(fmt.Sprintf("NAME=%s\nVERSION=%s\n", kind, version))},
	})
}
