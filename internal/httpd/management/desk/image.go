package desk

import (
	"maps"
	"slices"

	"warthesis/internal/api"
	"warthesis/internal/inspect"
	"warthesis/internal/oci"
)

// PlatformImage shows one image as its manifest and, where it was read, its configuration
// have it: platform is what an index says of it. Who asks fills in what names it.
func PlatformImage(parsed oci.Manifest, platform *oci.Platform, config inspect.Config, read bool) api.PlatformImage {
	shown := api.PlatformImage{Platform: oci.PlatformString(platform), Layers: make([]api.Layer, 0, len(parsed.Layers))}
	if parsed.Config != nil {
		shown.Config = &api.Descriptor{MediaType: parsed.Config.MediaType, Digest: parsed.Config.Digest, Size: parsed.Config.Size}
	}
	if read {
		shown.Run, shown.Created = runSettings(config), config.Created
		if shown.Platform == "" {
			shown.Platform = oci.PlatformString(inspect.Platform(config))
		}
	}
	for _, l := range inspect.Layers(parsed.Layers, config) {
		shown.Layers = append(shown.Layers, api.Layer{Descriptor: api.Descriptor{MediaType: l.MediaType, Digest: l.Digest, Size: l.Size}, Step: l.Step})
	}
	return shown
}

func runSettings(c inspect.Config) *api.RunSettings {
	return &api.RunSettings{
		User: c.Config.User, Entrypoint: List(c.Config.Entrypoint), Command: List(c.Config.Cmd), Directory: c.Config.WorkingDir,
		Env: List(c.Config.Env), Ports: slices.Sorted(maps.Keys(c.Config.ExposedPorts)), Volumes: slices.Sorted(maps.Keys(c.Config.Volumes)),
		Labels: OrEmpty(c.Config.Labels), StopSignal: c.Config.StopSignal,
	}
}

// OrEmpty is a map that is there.
func OrEmpty(m map[string]string) map[string]string {
	if m == nil {
		return map[string]string{}
	}
	return m
}
