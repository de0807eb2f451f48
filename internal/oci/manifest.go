package oci

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"

	v1 "github.com/opencontainers/image-spec/specs-go/v1"
)

// Descriptor names content by media type, digest and size (image-spec, "Descriptor").
type Descriptor = v1.Descriptor

// DefaultManifestLimit is the largest manifest in bytes that the standard asks
// registries to take (distribution-spec, "Pushing Manifests").
const DefaultManifestLimit = 4 << 20

// MostManifestLimit is the largest manifest in bytes that a service may be told to
// take, and that a client takes of any.
const MostManifestLimit = 64 << 20

// MaxDescriptors is how many layers, or how many manifests, one manifest or index may
// name: each is a row that is written while all other changes wait.
const MaxDescriptors = 4096

// Manifest is what a manifest or an index names. It is a reading aid: the bytes
// it was read from stay the truth and are never written from it.
type Manifest struct {
	// MediaType is that of the document.
	MediaType string
	// ArtifactType is the document's own, or its config's media type where the
	// document has none (distribution-spec, "Listing Referrers").
	ArtifactType string
	// Config is nil for an index.
	Config *Descriptor
	// Layers is empty for an index.
	Layers []Descriptor
	// Children are the manifests an index names; nil for an image.
	Children    []Descriptor
	Subject     *Descriptor
	Annotations map[string]string
}

// IsIndex reports whether the document is an index.
func (m Manifest) IsIndex() bool { return IsIndex(m.MediaType) }

// Relation says as what a manifest names something.
type Relation string

// The relations of a manifest to what it names.
const (
	RelationConfig  Relation = "config"
	RelationLayer   Relation = "layer"
	RelationChild   Relation = "child"
	RelationSubject Relation = "subject"
)

// Edge is one thing that a manifest names.
type Edge struct {
	Relation Relation
	Descriptor
}

// Edges lists all that the manifest names, in the order of the document.
func (m Manifest) Edges() []Edge {
	var edges []Edge
	if m.Config != nil {
		edges = append(edges, Edge{RelationConfig, *m.Config})
	}
	for _, layer := range m.Layers {
		edges = append(edges, Edge{RelationLayer, layer})
	}
	for _, child := range m.Children {
		edges = append(edges, Edge{RelationChild, child})
	}
	if m.Subject != nil {
		edges = append(edges, Edge{RelationSubject, *m.Subject})
	}
	return edges
}

// ParseManifest reads and checks a manifest or an index. The content type is what
// the bytes were sent as; where it is empty the document must say. Keys are
// matched exactly and must not repeat: two readers of one document must not see
// two images in it. It fails with CodeManifestInvalid.
func ParseManifest(contentType string, raw []byte) (Manifest, error) {
	document, err := exactObject(raw)
	if err != nil {
		return Manifest{}, manifestInvalid("the manifest is not valid JSON: %v", err)
	}
	var m Manifest
	if m.MediaType, err = mediaTypeOf(contentType, document); err != nil {
		return Manifest{}, err
	}
	var version int
	if err := document.read("schemaVersion", &version); err != nil || version != 2 {
		return Manifest{}, manifestInvalid("the manifest's schemaVersion must be 2")
	}
	if m.Subject, err = document.descriptor("subject"); err != nil {
		return Manifest{}, err
	}
	if err := document.read("annotations", &m.Annotations); err != nil {
		return Manifest{}, manifestInvalid("the manifest's annotations must be strings by name: %v", err)
	}
	if err := document.read("artifactType", &m.ArtifactType); err != nil {
		return Manifest{}, manifestInvalid("the manifest's artifactType must be a string")
	}
	if m.IsIndex() {
		return m, m.readIndex(document)
	}
	return m, m.readImage(document)
}

func (m *Manifest) readIndex(document object) (err error) {
	if document.has("config") || document.has("layers") {
		return manifestInvalid("the index names a config or layers, which only an image has; push it as %s or take them out", MediaTypeImage)
	}
	m.Children, err = document.descriptors("manifests")
	return err
}

func (m *Manifest) readImage(document object) (err error) {
	if document.has("manifests") {
		return manifestInvalid("the image names manifests, which only an index does; push it as %s or take them out", MediaTypeIndex)
	}
	if m.Config, err = document.descriptor("config"); err != nil {
		return err
	}
	if m.Config == nil {
		return manifestInvalid("the manifest names no config")
	}
	if m.Layers, err = document.descriptors("layers"); err != nil {
		return err
	}
	if m.ArtifactType == "" && m.Config.MediaType != MediaTypeEmpty {
		m.ArtifactType = m.Config.MediaType
	}
	return nil
}

// mediaTypeOf settles what the document is: what it was sent as and what it says
// must agree (image-spec, "Image Manifest", mediaType).
func mediaTypeOf(contentType string, document object) (string, error) {
	var said string
	if err := document.read("mediaType", &said); err != nil {
		return "", manifestInvalid("the manifest's mediaType must be a string")
	}
	switch {
	case contentType == "" && said == "":
		return "", manifestInvalid("the manifest has no mediaType and came without a Content-Type; send one of them")
	case contentType == "":
		contentType = said
	case said != "" && said != contentType:
		return "", manifestInvalid("the manifest says it is %s and was sent as %s; they must agree", quote(said), quote(contentType))
	}
	if !IsManifest(contentType) {
		return "", manifestInvalid("%s is not a media type of manifests; use %s or %s", quote(contentType), MediaTypeImage, MediaTypeIndex)
	}
	return contentType, nil
}

func manifestInvalid(format string, args ...any) *Error {
	return Errorf(CodeManifestInvalid, format, args...)
}

// object is a JSON object whose keys are matched exactly.
type object map[string]json.RawMessage

// exactObject reads one JSON object and nothing behind it, and refuses repeated keys.
func exactObject(raw []byte) (object, error) {
	decoder := json.NewDecoder(bytes.NewReader(raw))
	if opening, err := decoder.Token(); err != nil {
		return nil, err
	} else if opening != json.Delim('{') {
		return nil, fmt.Errorf("it must be an object")
	}
	o := object{}
	for decoder.More() {
		key, err := decoder.Token()
		if err != nil {
			return nil, err
		}
		name := key.(string)
		if o.has(name) {
			return nil, fmt.Errorf("the key %s stands in it twice", quote(name))
		}
		var value json.RawMessage
		if err := decoder.Decode(&value); err != nil {
			return nil, err
		}
		o[name] = value
	}
	if _, err := decoder.Token(); err != nil {
		return nil, err
	}
	if _, err := decoder.Token(); err != io.EOF {
		return nil, fmt.Errorf("something follows behind its end")
	}
	return o, nil
}

func (o object) has(key string) bool {
	value, there := o[key]
	return there && !bytes.Equal(value, []byte("null"))
}

// read unmarshals the value of the key; an absent key leaves the target as it is.
func (o object) read(key string, target any) error {
	if !o.has(key) {
		return nil
	}
	return json.Unmarshal(o[key], target)
}

func (o object) descriptors(key string) ([]Descriptor, error) {
	var list []json.RawMessage
	if err := o.read(key, &list); err != nil {
		return nil, manifestInvalid("the manifest's %s must be a list", key)
	}
	if len(list) > MaxDescriptors {
		return nil, manifestInvalid("the manifest's %s are %d, at most %d may be; make several manifests of them, and an index", key, len(list), MaxDescriptors)
	}
	descriptors := make([]Descriptor, 0, len(list))
	for i, raw := range list {
		d, err := readDescriptor(fmt.Sprintf("%s[%d]", key, i), raw)
		if err != nil {
			return nil, err
		}
		descriptors = append(descriptors, d)
	}
	return descriptors, nil
}

func (o object) descriptor(key string) (*Descriptor, error) {
	if !o.has(key) {
		return nil, nil
	}
	d, err := readDescriptor(key, o[key])
	if err != nil {
		return nil, err
	}
	return &d, nil
}

func readDescriptor(where string, raw json.RawMessage) (Descriptor, error) {
	var d Descriptor
	o, err := exactObject(raw)
	if err != nil {
		return d, manifestInvalid("the manifest's %s is not a descriptor: %v", where, err)
	}
	fields := map[string]any{
		"mediaType": &d.MediaType, "digest": &d.Digest, "size": &d.Size, "artifactType": &d.ArtifactType,
		"annotations": &d.Annotations, "urls": &d.URLs, "data": &d.Data, "platform": &d.Platform,
	}
	for key, target := range fields {
		if err := o.read(key, target); err != nil {
			return d, manifestInvalid("the manifest's %s.%s cannot be read: %v", where, key, err)
		}
	}
	if d.MediaType == "" {
		return d, manifestInvalid("the manifest's %s has no mediaType", where)
	}
	if _, err := ParseDigest(d.Digest.String()); err != nil {
		return d, manifestInvalid("the manifest's %s has a digest that is none: %v", where, err)
	}
	if d.Size < 0 || !o.has("size") {
		return d, manifestInvalid("the manifest's %s has no size, or one below zero", where)
	}
	if d.Data != nil && (int64(len(d.Data)) != d.Size || d.Digest.Algorithm().FromBytes(d.Data) != d.Digest) {
		return d, manifestInvalid("the manifest's %s carries data that is not what its digest and size name", where)
	}
	return d, nil
}
