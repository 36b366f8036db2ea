package transfer

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	v1 "github.com/opencontainers/image-spec/specs-go/v1"

	"imbricat/internal/content/image"
	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/platform"
	"imbricat/internal/remote/registry"
)

// Guard keeps tags from going where they must not. The registry protocol knows no atomic check: what another writer does
// between looking and writing is found out afterwards at best.
type Guard struct {
	// Fixed reports whether a name never moves to another digest; nil: none is fixed.
	Fixed func(name string) bool
	// Older tells why the image is older than the one that a moving name stands on; "" where it is not. nil: nobody asks.
	Older func(ctx context.Context, name string, stands registry.Document) (string, error)
	// KeepPlatforms has no moving name go to an image that lacks platforms of the one that it stands on.
	KeepPlatforms bool
}

// MoveError is a tag that may not move.
type MoveError struct {
	Place  string // HOST/REPOSITORY:TAG
	Stands digest.Digest
	Wanted digest.Digest
	Why    string
}

func (e *MoveError) Error() string {
	return fmt.Sprintf("%s stands on %s and is not moved to %s: %s", e.Place, e.Stands, e.Wanted, e.Why)
}

// RaceError is a fixed tag that somebody else wrote at the same time.
type RaceError struct {
	Place  string
	Stands digest.Digest
	Wanted digest.Digest
}

func (e *RaceError) Error() string {
	return fmt.Sprintf("%s was written by somebody else at the same time: it stands on %s now and not on %s; the tag is fixed, so find out which is right", e.Place, e.Stands, e.Wanted)
}

// guard looks at what the names stand on before anything is sent, and again before they are written.
func (c *copier) guard(ctx context.Context, names []string) error {
	to, is := c.to.(*remote)
	if !is {
		return nil
	}
	first := c.stood == nil
	if first {
		c.stood = map[string]digest.Digest{}
	}
	for _, name := range names {
		if !first && c.stood[name] == c.result.Descriptor.Digest {
			continue // it stands right, and is not written
		}
		stands, err := to.standing(ctx, name)
		if err != nil {
			return err
		}
		before := c.stood[name]
		c.stood[name] = stands
		if stands == "" || stands == c.result.Descriptor.Digest || !first && stands == before {
			continue
		}
		if err := c.mayMove(ctx, to, name, stands); err != nil {
			return err
		}
	}
	return nil
}

func (c *copier) mayMove(ctx context.Context, to *remote, name string, stands digest.Digest) error {
	refusal := &MoveError{Place: to.String() + ":" + name, Stands: stands, Wanted: c.result.Descriptor.Digest}
	g := c.o.Guard
	if g.Fixed != nil && g.Fixed(name) {
		refusal.Why = "the tag is fixed; give what is new a new tag"
		return refusal
	}
	if g.Older == nil && !g.KeepPlatforms {
		return nil
	}
	document, err := to.repository.Tagged(ctx, string(stands), image.Accepted)
	if err != nil {
		return err
	}
	if g.Older != nil {
		if refusal.Why, err = g.Older(ctx, name, document); err != nil {
			return err
		}
		if refusal.Why != "" {
			refusal.Why += "; --force moves it all the same"
			return refusal
		}
	}
	if !g.KeepPlatforms {
		return nil
	}
	if refusal.Why, err = c.loses(ctx, document); err != nil || refusal.Why == "" {
		return err
	}
	return refusal
}

// loses tells which platforms of what stands somewhere the image lacks; "" where it lacks none.
func (c *copier) loses(ctx context.Context, stands registry.Document) (string, error) {
	if !image.IsIndex(stands.Descriptor.MediaType) {
		return "", nil
	}
	offers, err := image.Offers(ctx, c, c.result.Descriptor)
	if err != nil {
		return "", err
	}
	var has []platform.Platform
	for _, o := range offers {
		has = append(has, o.Platform)
	}
	return Loses(stands, has), nil
}

// PlatformsOf returns the platforms that an index names, each once; none of what is no index.
func PlatformsOf(d registry.Document) (list []platform.Platform) {
	var index v1.Index
	if !image.IsIndex(d.Descriptor.MediaType) || json.Unmarshal(d.Body, &index) != nil {
		return nil
	}
	for _, one := range index.Manifests {
		if one.Platform == nil {
			continue
		}
		if p := platform.FromOCI(*one.Platform); !p.Unknown() && !slices.Contains(list, p) {
			list = append(list, p)
		}
	}
	return list
}

// Loses tells which platforms of an index an image for some platforms lacks, and how to have it all the same; "" where it lacks none.
func Loses(stands registry.Document, has []platform.Platform) string {
	var lost []string
	for _, p := range PlatformsOf(stands) {
		if !slices.Contains(has, p) {
			lost = append(lost, p.String())
		}
	}
	if len(lost) == 0 {
		return ""
	}
	return "the tag would lose " + strings.Join(lost, ", ") + "; --fewer-platforms moves it all the same"
}

// name writes a name unless it stands right, and makes sure of a fixed one afterwards.
func (c *copier) name(ctx context.Context, name string) error {
	to, is := c.to.(*remote)
	if !is {
		return c.to.Name(ctx, c.result.Descriptor, name)
	}
	if c.stood[name] == c.result.Descriptor.Digest {
		return nil
	}
	if err := to.Name(ctx, c.result.Descriptor, name); err != nil {
		return err
	}
	if c.o.Guard.Fixed == nil || !c.o.Guard.Fixed(name) {
		return nil
	}
	stands, err := to.standing(ctx, name)
	if err == nil && stands != c.result.Descriptor.Digest {
		err = &RaceError{Place: to.String() + ":" + name, Stands: stands, Wanted: c.result.Descriptor.Digest}
	}
	return err
}
