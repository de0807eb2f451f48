package image

import (
	"context"
	"log/slog"
	"sort"

	"warthesis/internal/api"
	"warthesis/internal/httpd/management/desk"
	"warthesis/internal/inspect"
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
	m, err := d.Registry.Manifest(ctx, name, in.Reference)
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
		Annotations: orEmpty(parsed.Annotations), Raw: string(raw), Platforms: []api.PlatformImage{},
	}
	if !parsed.IsIndex() {
		image.Platforms = append(image.Platforms, d.platformImage(ctx, name, m, parsed, nil))
		return desk.OK(image, nil)
	}
	for _, child := range parsed.Children[:min(len(parsed.Children), mostPlatforms)] {
		image.Platforms = append(image.Platforms, d.child(ctx, name, child))
	}
	return desk.OK(image, nil)
}

// mostPlatforms is how many images of an index are looked into.
const mostPlatforms = 64

// child looks into one entry of an index. What cannot be looked into is shown as
// the index has it.
func (d *door) child(ctx context.Context, name oci.Name, entry oci.Descriptor) api.PlatformImage {
	shown := api.PlatformImage{
		Platform: oci.PlatformString(entry.Platform), Digest: entry.Digest, MediaType: entry.MediaType,
		ContentSize: entry.Size, Layers: []api.Layer{},
	}
	m, err := d.Registry.Manifest(ctx, name, entry.Digest.String())
	if err != nil {
		return shown
	}
	raw, err := d.Registry.ManifestBytes(ctx, m)
	if err != nil {
		slog.Warn("an index names a manifest that cannot be read", "repository", name, "digest", m.Digest, "error", err)
		return shown
	}
	parsed, err := oci.ParseManifest(m.MediaType, raw)
	if err != nil {
		return shown
	}
	return d.platformImage(ctx, name, m, parsed, entry.Platform)
}

func (d *door) platformImage(ctx context.Context, name oci.Name, m record.Manifest, parsed oci.Manifest, platform *oci.Platform) api.PlatformImage {
	shown := api.PlatformImage{
		Platform: oci.PlatformString(platform), Digest: m.Digest, MediaType: m.MediaType, ContentSize: m.ContentSize,
		Layers: make([]api.Layer, 0, len(parsed.Layers)),
	}
	if parsed.Config != nil {
		shown.Config = &api.Descriptor{MediaType: parsed.Config.MediaType, Digest: parsed.Config.Digest, Size: parsed.Config.Size}
	}
	// An artifact has no image configuration: its layers are shown without steps.
	config, err := d.Registry.ImageConfig(ctx, name, parsed)
	if err == nil {
		shown.Run, shown.Created = runSettings(config), config.Created
		if shown.Platform == "" {
			shown.Platform = oci.PlatformString(inspect.Platform(config))
		}
	}
	var holders map[oci.Digest]int64
	if holders, err = d.Records.View(ctx).Find(d.Seen(ctx)).HolderCounts(digestsOf(parsed.Layers)); err != nil {
		slog.Warn("the holders of layers cannot be counted", "repository", name, "digest", m.Digest, "error", err)
	}
	for _, l := range inspect.Layers(parsed.Layers, config) {
		shown.Layers = append(shown.Layers, api.Layer{
			Descriptor: api.Descriptor{MediaType: l.MediaType, Digest: l.Digest, Size: l.Size},
			Step:       l.Step, Repositories: holders[l.Digest],
		})
	}
	return shown
}

func runSettings(c inspect.Config) *api.RunSettings {
	return &api.RunSettings{
		User: c.Config.User, Entrypoint: desk.List(c.Config.Entrypoint), Command: desk.List(c.Config.Cmd), Directory: c.Config.WorkingDir,
		Env: desk.List(c.Config.Env), Ports: keys(c.Config.ExposedPorts), Volumes: keys(c.Config.Volumes),
		Labels: orEmpty(c.Config.Labels), StopSignal: c.Config.StopSignal,
	}
}

func keys(m map[string]struct{}) []string {
	all := make([]string, 0, len(m))
	for key := range m {
		all = append(all, key)
	}
	sort.Strings(all)
	return all
}

func orEmpty(m map[string]string) map[string]string {
	if m == nil {
		return map[string]string{}
	}
	return m
}

func digestsOf(descriptors []oci.Descriptor) []oci.Digest {
	digests := make([]oci.Digest, len(descriptors))
	for i, d := range descriptors {
		digests[i] = d.Digest
	}
	return digests
}
