package image

import v1 "github.com/opencontainers/image-spec/specs-go/v1"

// The media types that the image-spec's compatibility matrix lists beside its own. They are read and never written.
const (
	oldManifest     = "application/vnd.docker.distribution.manifest.v2+json"
	oldIndex        = "application/vnd.docker.distribution.manifest.list.v2+json"
	oldConfig       = "application/vnd.docker.container.image.v1+json"
	oldLayer        = "application/vnd.docker.image.rootfs.diff.tar"
	oldLayerGzip    = "application/vnd.docker.image.rootfs.diff.tar.gzip"
	oldForeignLayer = "application/vnd.docker.image.rootfs.foreign.diff.tar.gzip"
)

// Accepted lists the media types of manifests and indexes that are read, for asking registries.
var Accepted = []string{v1.MediaTypeImageIndex, v1.MediaTypeImageManifest, oldIndex, oldManifest}

// IsIndex tells whether a media type is that of an index.
func IsIndex(mediaType string) bool {
	return mediaType == v1.MediaTypeImageIndex || mediaType == oldIndex
}

// IsManifest tells whether a media type is that of an image's manifest.
func IsManifest(mediaType string) bool {
	return mediaType == v1.MediaTypeImageManifest || mediaType == oldManifest
}

func isConfig(mediaType string) bool {
	return mediaType == v1.MediaTypeImageConfig || mediaType == oldConfig
}

// current gives the standard's own media type for a layer's.
func current(mediaType string) string {
	switch mediaType {
	case oldLayer:
		return v1.MediaTypeImageLayer
	case oldLayerGzip, oldForeignLayer:
		return v1.MediaTypeImageLayerGzip
	}
	return mediaType
}
