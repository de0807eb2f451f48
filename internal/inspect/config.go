// Package inspect looks inside images: what their config says, and which step
// made which layer. It is pure: bytes in, values out. Everything it reads was
// pushed by somebody and may say anything.
package inspect

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"

	v1 "github.com/opencontainers/image-spec/specs-go/v1"

	"warthesis/internal/oci"
)

// ConfigLimit is the largest config in bytes that is read.
const ConfigLimit = 8 << 20

// Config is the config of a container image (image-spec, "Image Configuration").
type Config = v1.Image

// ReadConfig reads the config of a container image.
func ReadConfig(raw []byte) (Config, error) {
	var c Config
	if err := json.Unmarshal(raw, &c); err != nil {
		return c, fmt.Errorf("the config is not an image configuration: %w", err)
	}
	return c, nil
}

// Platform returns what the image says it runs on, nil where it does not say.
func Platform(c Config) *oci.Platform {
	if c.OS == "" || c.Architecture == "" {
		return nil
	}
	return &oci.Platform{OS: c.OS, Architecture: c.Architecture, Variant: c.Variant, OSVersion: c.OSVersion}
}

// DiffIDs returns the digests of an image's layers as they are unpacked, up to the first
// that is none.
func DiffIDs(c Config) []oci.Digest {
	var ids []oci.Digest
	for _, id := range c.RootFS.DiffIDs {
		d, err := oci.ParseDigest(id.String())
		if err != nil {
			break
		}
		ids = append(ids, d)
	}
	return ids
}

// The bounds of labels that are kept of a config: how many, and all their bytes.
const (
	mostLabels     = 200
	mostLabelBytes = 16 << 10
)

// Labels returns the labels of an image, the first ones in the order of their names where
// there are very many.
func Labels(c Config) map[string]string {
	kept := map[string]string{}
	bytes := 0
	for _, name := range slices.Sorted(maps.Keys(c.Config.Labels)) {
		value := c.Config.Labels[name]
		if bytes += len(name) + len(value); bytes > mostLabelBytes || len(kept) == mostLabels {
			break
		}
		kept[name] = value
	}
	return kept
}

// Layer is one layer with the step that made it.
type Layer struct {
	oci.Descriptor
	// Step is the command that made the layer, "" where the history does not say.
	Step string
	// Comment is what the history says beside it.
	Comment string
}

// Layers joins the layers of a manifest with the history of its config. History
// entries that made no layer are passed over; where the two do not match in
// number, steps are left out rather than put to the wrong layer.
func Layers(layers []oci.Descriptor, c Config) []Layer {
	var made []v1.History
	for _, h := range c.History {
		if !h.EmptyLayer {
			made = append(made, h)
		}
	}
	joined := make([]Layer, len(layers))
	for i, l := range layers {
		joined[i].Descriptor = l
		if len(made) == len(layers) {
			joined[i].Step, joined[i].Comment = made[i].CreatedBy, made[i].Comment
		}
	}
	return joined
}
