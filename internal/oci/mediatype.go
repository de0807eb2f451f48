package oci

import v1 "github.com/opencontainers/image-spec/specs-go/v1"

// Media types of manifests that are stored. The second pair is the second-schema
// form that older clients push; it has the same shape and is kept as it came.
const (
	MediaTypeImage       = v1.MediaTypeImageManifest
	MediaTypeIndex       = v1.MediaTypeImageIndex
	MediaTypeSecondImage = "application/vnd.docker.distribution.manifest.v2+json"
	MediaTypeSecondIndex = "application/vnd.docker.distribution.manifest.list.v2+json"
)

// Media types of content that is looked into.
const (
	MediaTypeConfig       = v1.MediaTypeImageConfig
	MediaTypeSecondConfig = "application/vnd.docker.container.image.v1+json"
	MediaTypeLayer        = v1.MediaTypeImageLayer
	MediaTypeLayerGzip    = v1.MediaTypeImageLayerGzip
	MediaTypeEmpty        = v1.MediaTypeEmptyJSON
)

// ManifestMediaTypes lists what a client may push and accept as a manifest.
var ManifestMediaTypes = []string{MediaTypeImage, MediaTypeIndex, MediaTypeSecondImage, MediaTypeSecondIndex}

// IsManifest reports whether the media type is that of a manifest or an index.
func IsManifest(mediaType string) bool {
	return IsIndex(mediaType) || mediaType == MediaTypeImage || mediaType == MediaTypeSecondImage
}

// IsIndex reports whether the media type is that of an index.
func IsIndex(mediaType string) bool {
	return mediaType == MediaTypeIndex || mediaType == MediaTypeSecondIndex
}

// IsImageConfig reports whether the media type is that of a container image's config.
func IsImageConfig(mediaType string) bool {
	return mediaType == MediaTypeConfig || mediaType == MediaTypeSecondConfig
}

// IsNonDistributable reports whether content of this media type may be missing
// from a registry (image-spec, "Non-Distributable Layers").
func IsNonDistributable(mediaType string) bool {
	switch mediaType {
	case "application/vnd.oci.image.layer.nondistributable.v1.tar",
		"application/vnd.oci.image.layer.nondistributable.v1.tar+gzip",
		"application/vnd.oci.image.layer.nondistributable.v1.tar+zstd",
		"application/vnd.docker.image.rootfs.foreign.diff.tar.gzip":
		return true
	}
	return false
}
