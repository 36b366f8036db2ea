// Package platform parses, prints and matches the platforms of images, such as linux/arm64.
//
// It is pure: it never asks which machine it runs on except in Here.
package platform

import (
	"fmt"
	"regexp"
	"runtime"
	"strconv"
	"strings"

	v1 "github.com/opencontainers/image-spec/specs-go/v1"
)

// Platform is an operating system, an architecture in Go's words, and for some architectures a variant.
type Platform struct {
	OS           string
	Architecture string
	Variant      string
}

var word = regexp.MustCompile(`^[a-z0-9_.-]+$`)

// Parse reads OS/ARCHITECTURE or OS/ARCHITECTURE/VARIANT and puts it in its normal form (arm64/v8 is arm64).
func Parse(text string) (Platform, error) {
	parts := strings.Split(text, "/")
	if len(parts) < 2 || len(parts) > 3 {
		return Platform{}, fmt.Errorf("%q is not a platform: write OS/ARCHITECTURE, such as linux/amd64", text)
	}
	for _, part := range parts {
		if !word.MatchString(part) {
			return Platform{}, fmt.Errorf("%q is not a platform: write OS/ARCHITECTURE, such as linux/amd64", text)
		}
	}
	p := Platform{OS: parts[0], Architecture: parts[1]}
	if len(parts) == 3 {
		p.Variant = parts[2]
	}
	return p.normal(), nil
}

// FromOCI takes the platform of a descriptor or a config.
func FromOCI(p v1.Platform) Platform {
	return Platform{OS: p.OS, Architecture: p.Architecture, Variant: p.Variant}.normal()
}

// OCI returns the platform as descriptors hold it.
func (p Platform) OCI() v1.Platform {
	return v1.Platform{OS: p.OS, Architecture: p.Architecture, Variant: p.Variant}
}

// Here is the platform of images for this machine. Images for other systems are rare, so the system is Linux unless
// the machine runs Windows.
func Here() Platform {
	system := "linux"
	if runtime.GOOS == "windows" {
		system = "windows"
	}
	return Platform{OS: system, Architecture: runtime.GOARCH}
}

func (p Platform) normal() Platform {
	if p.Architecture == "arm64" && p.Variant == "v8" {
		p.Variant = ""
	}
	return p
}

// String is the form that Parse reads.
func (p Platform) String() string {
	text := p.OS + "/" + p.Architecture
	if p.Variant != "" {
		text += "/" + p.Variant
	}
	return text
}

// Unknown reports whether p is a placeholder, as indexes use for entries that are no images.
func (p Platform) Unknown() bool {
	return p.OS == "" || p.OS == "unknown" || p.Architecture == "" || p.Architecture == "unknown"
}

// level orders variants: v8 is 8; no variant is the one that the trade means by the bare name.
func (p Platform) level() int {
	if n, err := strconv.Atoi(strings.TrimPrefix(p.Variant, "v")); err == nil {
		return n
	}
	switch p.Architecture {
	case "arm":
		return 7
	case "arm64":
		return 8
	case "amd64":
		return 1
	}
	return 0
}

// Best picks the offer that serves wanted: the same system and architecture with the highest variant that is not above
// the wanted one. It returns -1 where none does. Placeholders are passed over.
func Best(wanted Platform, offers []Platform) int {
	best := -1
	for i, offer := range offers {
		if offer.Unknown() || offer.OS != wanted.OS || offer.Architecture != wanted.Architecture {
			continue
		}
		if offer.level() > wanted.level() {
			continue
		}
		if best < 0 || offer.level() > offers[best].level() {
			best = i
		}
	}
	return best
}
