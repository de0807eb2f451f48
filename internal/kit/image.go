package kit

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"

	v1 "github.com/opencontainers/image-spec/specs-go/v1"
	"github.com/stretchr/testify/require"

	"warthesis/internal/oci"
)

// Bytes returns bytes of the size that hang on the seed alone.
func Bytes(seed uint64, size int) []byte {
	r := rand.New(rand.NewPCG(seed, 1))
	b := make([]byte, size)
	for i := range b {
		b[i] = byte(r.Uint32())
	}
	return b
}

// Image is a small image with its content at hand.
type Image struct {
	Manifest oci.Descriptor
	Raw      []byte
	// Blobs are config and layers by digest.
	Blobs map[oci.Digest][]byte
}

// NewImage makes an image for linux/amd64 from layers of any bytes.
func NewImage(t testing.TB, layers ...[]byte) Image {
	config := v1.Image{Platform: oci.Platform{OS: "linux", Architecture: "amd64"}}
	config.RootFS.Type = "layers"
	made := Image{Blobs: map[oci.Digest][]byte{}}
	manifest := v1.Manifest{MediaType: oci.MediaTypeImage}
	manifest.SchemaVersion = 2
	for i, raw := range layers {
		d := made.add(oci.MediaTypeLayer, raw)
		manifest.Layers = append(manifest.Layers, d)
		config.RootFS.DiffIDs = append(config.RootFS.DiffIDs, d.Digest)
		config.History = append(config.History, v1.History{CreatedBy: fmt.Sprintf("step %d", i)})
	}
	raw, err := json.Marshal(config)
	require.NoError(t, err)
	manifest.Config = made.add(oci.MediaTypeConfig, raw)
	// An indent that hardly any encoder writes: a registry that re-encodes is found out.
	made.Raw, err = json.MarshalIndent(manifest, "", "   ")
	require.NoError(t, err)
	made.Manifest = oci.Descriptor{MediaType: oci.MediaTypeImage, Digest: oci.DigestOf(oci.SHA256, made.Raw), Size: int64(len(made.Raw))}
	return made
}

func (i *Image) add(mediaType string, raw []byte) oci.Descriptor {
	d := oci.Descriptor{MediaType: mediaType, Digest: oci.DigestOf(oci.SHA256, raw), Size: int64(len(raw))}
	i.Blobs[d.Digest] = raw
	return d
}

// Layout writes the image as an image layout into a new folder and returns it.
func (i Image) Layout(t testing.TB) string {
	root := t.TempDir()
	index := v1.Index{MediaType: oci.MediaTypeIndex, Manifests: []oci.Descriptor{i.Manifest}}
	index.SchemaVersion = 2
	raw, err := json.Marshal(index)
	require.NoError(t, err)
	files := map[string][]byte{
		"oci-layout": []byte(`{"imageLayoutVersion":"1.0.0"}`), "index.json": raw,
		filepath.Join("blobs/sha256", i.Manifest.Digest.Encoded()): i.Raw,
	}
	for d, content := range i.Blobs {
		files[filepath.Join("blobs", d.Algorithm().String(), d.Encoded())] = content
	}
	for name, content := range files {
		at := filepath.Join(root, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(at), 0o755))
		require.NoError(t, os.WriteFile(at, content, 0o644))
	}
	return root
}
