package image

import (
	"strings"

	v1 "github.com/opencontainers/image-spec/specs-go/v1"
)

// The media types that the image-spec's compatibility matrix lists beside its own. They are read and never written.
const (
	OldManifest     = "application/vnd.docker.distribution.manifest.v2+json"
	OldIndex        = "application/vnd.docker.distribution.manifest.list.v2+json"
	OldConfig       = "application/vnd.docker.container.image.v1+json"
	OldLayer        = "application/vnd.docker.image.rootfs.diff.tar"
	OldLayerGzip    = "application/vnd.docker.image.rootfs.diff.tar.gzip"
	OldForeignLayer = "application/vnd.docker.image.rootfs.foreign.diff.tar.gzip"
)

// Accepted lists the media types of manifests and indexes that are read, for asking registries.
var Accepted = []string{v1.MediaTypeImageIndex, v1.MediaTypeImageManifest, OldIndex, OldManifest}

// IsIndex reports whether a media type is that of an index.
func IsIndex(mediaType string) bool {
	return mediaType == v1.MediaTypeImageIndex || mediaType == OldIndex
}

// IsManifest reports whether a media type is that of an image's manifest.
func IsManifest(mediaType string) bool {
	return mediaType == v1.MediaTypeImageManifest || mediaType == OldManifest
}

// Undistributed reports whether a layer of a media type need not be in a registry: its licence forbids that.
func Undistributed(mediaType string) bool {
	return mediaType == OldForeignLayer || strings.HasPrefix(mediaType, "application/vnd.oci.image.layer.nondistributable.v1.")
}

// IsConfig reports whether a media type is that of an image's config.
func IsConfig(mediaType string) bool {
	return mediaType == v1.MediaTypeImageConfig || mediaType == OldConfig
}

// IsLayer reports whether a media type is that of a layer as the standard has them, compressed or not.
func IsLayer(mediaType string) bool {
	switch current(mediaType) {
	case v1.MediaTypeImageLayer, v1.MediaTypeImageLayerGzip, v1.MediaTypeImageLayerZstd:
		return true
	}
	return false
}

// current returns the standard's own media type for a layer's.
func current(mediaType string) string {
	switch mediaType {
	case OldLayer:
		return v1.MediaTypeImageLayer
	case OldLayerGzip, OldForeignLayer:
		return v1.MediaTypeImageLayerGzip
	}
	return mediaType
}
