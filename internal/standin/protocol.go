package standin

import (
	"encoding/json"
	"net/http"
)

// digestHeader carries the digest of what is sent or was stored.
const digestHeader = "Docker-Content-Digest"

// versionHeader tells clients which protocol is spoken.
const versionHeader = "Docker-Distribution-Api-Version"

// oldTypes are media types of manifests that the image-spec's compatibility matrix lists beside its own.
var oldTypes = map[string]bool{
	"application/vnd.docker.distribution.manifest.v2+json":      true,
	"application/vnd.docker.distribution.manifest.list.v2+json": true,
}

// undistributed are media types of layers that a registry need not have.
var undistributed = map[string]bool{
	"application/vnd.oci.image.layer.nondistributable.v1.tar":      true,
	"application/vnd.oci.image.layer.nondistributable.v1.tar+gzip": true,
	"application/vnd.oci.image.layer.nondistributable.v1.tar+zstd": true,
	"application/vnd.docker.image.rootfs.foreign.diff.tar.gzip":    true,
}

// problem is an error of the distribution-spec.
type problem struct {
	status  int
	code    string
	message string
}

func (p *problem) Error() string { return p.message }

func refuse(status int, code, message string) *problem { return &problem{status, code, message} }

func writeProblem(w http.ResponseWriter, p *problem) {
	type entry struct {
		Code    string `json:"code"`
		Message string `json:"message"`
	}
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(p.status)
	_ = json.NewEncoder(w).Encode(map[string][]entry{"errors": {{p.code, p.message}}})
}
