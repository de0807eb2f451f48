package image

import (
	"context"
	"errors"
	"log/slog"

	"warthesis/internal/api"
	"warthesis/internal/httpd/management/desk"
	"warthesis/internal/oci"
	"warthesis/internal/record"
)

type imageInput struct {
	desk.RepositoryInput
	Reference string `query:"reference" required:"true" maxLength:"256" doc:"A tag or a digest"`
}

func (d *door) image(ctx context.Context, in *imageInput) (*desk.Reply[api.Image], error) {
	name, err := oci.ParseName(in.Repository)
	if err != nil {
		return nil, desk.Refusal(err)
	}
	if err := d.Visible(ctx, name); err != nil {
		return nil, desk.Refusal(err)
	}
	m, err := d.manifest(ctx, name, in.Reference)
	if err != nil {
		return nil, desk.Refusal(err)
	}
	raw, err := d.Registry.ManifestBytes(ctx, m)
	if err != nil {
		return nil, desk.Refusal(err)
	}
	parsed, err := oci.ParseManifest(m.MediaType, raw)
	if err != nil {
		return nil, desk.Refusal(err)
	}
	tags, err := d.Records.TagsOf(ctx, m.ID)
	if err != nil {
		return nil, desk.Refusal(err)
	}
	image := api.Image{
		Repository: name, Digest: m.Digest, MediaType: m.MediaType, ArtifactType: m.ArtifactType,
		Size: m.Size, ContentSize: m.ContentSize, Tags: append([]oci.Tag{}, tags...),
		PushedAt: m.PushedAt.Time(), PushedBy: d.NameOf(m.PushedBy), Pulls: m.Pulls, PulledAt: desk.Moment(m.PulledAt), Subject: m.Subject,
		Annotations: desk.OrEmpty(parsed.Annotations), Raw: string(raw), Platforms: []api.PlatformImage{},
		Missing: int64(m.Missing),
	}
	if !parsed.IsIndex() {
		image.Platforms = append(image.Platforms, d.platformImage(ctx, name, m, parsed, nil))
		return desk.OK(image, nil)
	}
	for _, child := range parsed.Children[:min(len(parsed.Children), mostPlatforms)] {
		shown, here := d.child(ctx, name, child)
		if image.Platforms = append(image.Platforms, shown); here {
			image.Missing += shown.Missing
		}
	}
	return desk.OK(image, nil)
}

// manifest returns a manifest as it stands now: what is remembered of it for pulls may be older.
func (d *door) manifest(ctx context.Context, name oci.Name, reference string) (record.Manifest, error) {
	m, err := d.Registry.Manifest(ctx, name, reference)
	if err != nil {
		return m, err
	}
	now, err := d.Records.View(ctx).Follows().Standing(m.ID)
	m.Missing, m.ContentSize = int(now.Missing), now.ContentSize
	return m, err
}

// mostPlatforms is how many images of an index are looked into.
const mostPlatforms = 64

// child looks into one entry of an index, and reports whether its manifest is here. What
// cannot be looked into is shown as the index has it.
func (d *door) child(ctx context.Context, name oci.Name, entry oci.Descriptor) (shown api.PlatformImage, here bool) {
	shown = api.PlatformImage{
		Platform: oci.PlatformString(entry.Platform), Digest: entry.Digest, MediaType: entry.MediaType,
		ContentSize: entry.Size, Layers: []api.Layer{},
	}
	m, err := d.manifest(ctx, name, entry.Digest.String())
	if err != nil {
		if errors.Is(err, oci.CodeManifestUnknown) && oci.IsManifest(entry.MediaType) {
			shown.Missing = 1
		}
		return shown, false
	}
	raw, err := d.Registry.ManifestBytes(ctx, m)
	if err != nil {
		slog.Warn("an index names a manifest that cannot be read", "repository", name, "digest", m.Digest, "error", err)
		return shown, true
	}
	parsed, err := oci.ParseManifest(m.MediaType, raw)
	if err != nil {
		return shown, true
	}
	return d.platformImage(ctx, name, m, parsed, entry.Platform), true
}

func (d *door) platformImage(ctx context.Context, name oci.Name, m record.Manifest, parsed oci.Manifest, platform *oci.Platform) api.PlatformImage {
	// An artifact has no image configuration: its layers are shown without steps.
	config, missing := d.Registry.ImageConfig(ctx, name, parsed)
	shown := desk.PlatformImage(parsed, platform, config, missing == nil)
	shown.Digest, shown.MediaType, shown.ContentSize, shown.Missing = m.Digest, m.MediaType, m.ContentSize, int64(m.Missing)
	holders, err := d.Records.View(ctx).Find(d.Seen(ctx)).HolderCounts(digestsOf(parsed.Layers))
	if err != nil {
		slog.Warn("the holders of layers cannot be counted", "repository", name, "digest", m.Digest, "error", err)
	}
	for i := range shown.Layers {
		shown.Layers[i].Repositories = holders[shown.Layers[i].Digest]
	}
	return shown
}

func digestsOf(descriptors []oci.Descriptor) []oci.Digest {
	digests := make([]oci.Digest, len(descriptors))
	for i, d := range descriptors {
		digests[i] = d.Digest
	}
	return digests
}
