package peer

import (
	"context"
	"encoding/json"
	"slices"
	"strings"
	"time"

	"warthesis/internal/oci"
)

// annotationCreated is when an image was built (image-spec, "Annotations").
const annotationCreated = "org.opencontainers.image.created"

// mostImages is how many images of an index are looked into.
const mostImages = 64

// Made is what an image says of itself.
type Made struct {
	oci.Descriptor
	// Children are the images of an index, nil for one image.
	Children []oci.Descriptor
	// At is when it says that it was built, zero where it does not say.
	At time.Time
	// Contents are, of each image that was looked into, its config and its layers: images
	// with the same ones run alike, however their manifests are written.
	Contents []string
}

// Made looks at an image, by its annotations, its manifest and the config; of an index at
// its first image or, with all, at each.
func (c *Client) Made(ctx context.Context, name oci.Name, target string, all bool) (Made, error) {
	d, raw, err := c.Manifest(ctx, name, target)
	if err != nil {
		return Made{}, err
	}
	made := Made{Descriptor: d}
	parsed, err := oci.ParseManifest(d.MediaType, raw)
	if err != nil {
		return made, err
	}
	made.say(parsed.Annotations[annotationCreated])
	if !parsed.IsIndex() {
		return made, c.lookInto(ctx, name, parsed, &made)
	}
	made.Children = append([]oci.Descriptor{}, parsed.Children...)
	if all && len(parsed.Children) > mostImages {
		return made, oci.Errorf(oci.CodeUnsupported, "the index %s has more than %d images", d.Digest, mostImages)
	}
	for i, child := range parsed.Children {
		if i > 0 && !all {
			break
		}
		d, raw, err := c.Manifest(ctx, name, child.Digest.String())
		if err != nil {
			return made, err
		}
		image, err := oci.ParseManifest(d.MediaType, raw)
		if err != nil {
			return made, err
		}
		made.say(image.Annotations[annotationCreated])
		if err := c.lookInto(ctx, name, image, &made); err != nil {
			return made, err
		}
	}
	slices.Sort(made.Contents)
	return made, nil
}

// lookInto takes what one image says.
func (c *Client) lookInto(ctx context.Context, name oci.Name, m oci.Manifest, made *Made) error {
	if m.Config == nil {
		return nil
	}
	content := []string{m.Config.Digest.String()}
	for _, l := range m.Layers {
		content = append(content, l.Digest.String())
	}
	made.Contents = append(made.Contents, strings.Join(content, " "))
	if !made.At.IsZero() || !oci.IsImageConfig(m.Config.MediaType) {
		return nil
	}
	raw, err := c.SmallBlob(ctx, name, *m.Config)
	if err != nil {
		return err
	}
	var config struct{ Created string }
	if json.Unmarshal(raw, &config) == nil {
		made.say(config.Created)
	}
	return nil
}

// say takes a time that an image says, where nothing was said before.
func (m *Made) say(at string) {
	if t, err := time.Parse(time.RFC3339, at); err == nil && m.At.IsZero() {
		m.At = t
	}
}
