// Package lock reads and writes imbricat.lock: what the references of a recipe were resolved to, and how the files of its
// images are divided into layers, kept in version control beside the recipe.
//
// It is text in, text out; it asks no registry and decides nothing.
package lock

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"

	"go.yaml.in/yaml/v3"

	"imbricat/internal/ground/digest"
	"imbricat/internal/spec/division"
)

// Version is the format that this program reads and writes.
const Version = 1

// maxText bounds a lock, in bytes.
const maxText = 16 << 20

// Lock holds the digest of each base that is named by a tag, by the reference as the recipe gives it, and the division
// of each image that has one, by its name.
type Lock struct {
	Bases  map[string]digest.Digest
	Images map[string]*division.Rules
}

type document struct {
	Version int               `yaml:"imbricat-lock"`
	Bases   map[string]string `yaml:"bases"`
	Images  map[string][]part `yaml:"images"`
}

type part struct {
	Paths []string `yaml:"paths"`
}

// Parse reads a lock. name is the file as messages show it.
func Parse(name string, text []byte) (*Lock, error) {
	if len(text) > maxText {
		return nil, fmt.Errorf("%s has more than %d bytes", name, maxText)
	}
	var d document
	decoder := yaml.NewDecoder(bytes.NewReader(text))
	decoder.KnownFields(true)
	if err := decoder.Decode(&d); err != nil && !errors.Is(err, io.EOF) {
		return nil, fmt.Errorf("%s is not a lock: %w; `imbricat lock` writes it anew", name, err)
	}
	if d.Version != Version {
		return nil, fmt.Errorf("%s has format %d; this version of imbricat reads format %d: `imbricat lock` writes it anew", name, d.Version, Version)
	}
	l := &Lock{Bases: map[string]digest.Digest{}, Images: map[string]*division.Rules{}}
	for reference, written := range d.Bases {
		parsed, err := digest.Parse(written)
		if err != nil {
			return nil, fmt.Errorf("%s: %s: %w", name, reference, err)
		}
		l.Bases[reference] = parsed
	}
	for image, parts := range d.Images {
		lists := make([][]string, len(parts))
		for i, p := range parts {
			lists[i] = p.Paths
		}
		rules, err := division.New(lists)
		if err != nil {
			return nil, fmt.Errorf("%s: the division of %s: %w; `imbricat lock` writes it anew", name, image, err)
		}
		l.Images[image] = rules
	}
	return l, nil
}

// Encode writes a lock; the same content gives the same bytes. Each path has a line of its own, so that changes of several
// people merge.
func (l *Lock) Encode() []byte {
	var out bytes.Buffer
	fmt.Fprintf(&out, "# Written by `imbricat lock`: what the recipe's bases stand for, and which files share a layer. Keep it in version control.\nimbricat-lock: %d\n", Version)
	if len(l.Bases) == 0 {
		out.WriteString("bases: {}\n")
	} else {
		out.WriteString("bases:\n")
	}
	for _, reference := range slices.Sorted(maps.Keys(l.Bases)) {
		fmt.Fprintf(&out, "  %q: %s\n", reference, l.Bases[reference])
	}
	if len(l.Images) > 0 {
		out.WriteString("images: # layers of each, lowest first; a path goes where the longest prefix of it stands\n")
	}
	for _, image := range slices.Sorted(maps.Keys(l.Images)) {
		fmt.Fprintf(&out, "  %q:\n", image)
		for _, paths := range l.Images[image].Parts {
			out.WriteString("    - paths:\n")
			for _, path := range paths {
				fmt.Fprintf(&out, "        - %q\n", path)
			}
		}
	}
	return out.Bytes()
}

// Difference is what two locks say of one base; a digest is empty where a lock does not name it.
type Difference struct {
	Reference string        `json:"reference"`
	Locked    digest.Digest `json:"locked,omitempty"`
	Now       digest.Digest `json:"now,omitempty"`
}

// Differences compares a lock with a newer one, in the order of the references.
func (l *Lock) Differences(now *Lock) []Difference {
	all := maps.Clone(now.Bases)
	maps.Copy(all, l.Bases)
	list := []Difference{}
	for _, reference := range slices.Sorted(maps.Keys(all)) {
		if d := (Difference{reference, l.Bases[reference], now.Bases[reference]}); d.Locked != d.Now {
			list = append(list, d)
		}
	}
	return list
}

// Held is what a base stands for, by its reference; empty where no lock holds it.
func (l *Lock) Held(reference string) string {
	if l == nil {
		return ""
	}
	return string(l.Bases[reference])
}

// Divided is how an image is divided, for comparing.
func (l *Lock) Divided(image string) string {
	if l == nil || l.Images[image] == nil {
		return ""
	}
	return fmt.Sprintf("%q", l.Images[image].Parts)
}
