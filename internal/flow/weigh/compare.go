package weigh

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/sergi/go-diff/diffmatchpatch"

	"imbricat/internal/content/differ"
	"imbricat/internal/content/image"
	"imbricat/internal/content/layer"
	"imbricat/internal/content/tree"
	"imbricat/internal/flow"
	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/platform"
	"imbricat/internal/output/report"
)

// Compare tells how an image differs from another one, for one platform that both have, and of some paths how their texts do.
func Compare(ctx context.Context, first, second *Source, wanted []platform.Platform, texts []string) (*report.Compared, error) {
	chosen, all, err := first.Choose(ctx, wanted)
	if err != nil {
		return nil, err
	}
	other, others, err := second.Choose(ctx, wanted)
	if err != nil {
		return nil, err
	}
	if other.Platform.String() != chosen.Platform.String() && len(wanted) == 0 {
		chosen, other = common(all, others, chosen, other)
	}
	out := &report.Compared{Platform: other.Platform.String(), First: sideOf(first, chosen, all), Second: sideOf(second, other, others)}
	if chosen.Descriptor.Digest == other.Descriptor.Digest && len(texts) == 0 {
		out.Difference = differ.None()
		return out, nil
	}
	sides := [2]*differ.Image{}
	documents := [2]Documents{}
	for i, one := range []struct {
		source *Source
		offer  image.Offer
	}{{first, chosen}, {second, other}} {
		if documents[i], err = one.source.Read(ctx, one.offer.Descriptor); err != nil {
			return nil, err
		}
		layers, err := one.source.Layers(ctx, documents[i])
		if err != nil {
			return nil, fmt.Errorf("%s: %w", one.source.Name, err)
		}
		sides[i] = &differ.Image{Layers: layers, Config: documents[i].Config, Annotations: documents[i].Manifest.Annotations}
		for _, desc := range documents[i].Manifest.Layers {
			sides[i].Digests = append(sides[i].Digests, desc.Digest)
		}
	}
	if out.Difference, err = differ.Between(sides[0], sides[1]); err != nil {
		return nil, err
	}
	for _, p := range texts {
		clean, err := tree.CleanPath(p)
		if err != nil {
			return nil, flow.WrongUse(err)
		}
		was, hadIt, err := first.file(ctx, documents[0], sides[0], clean)
		if err != nil {
			return nil, err
		}
		now, hasIt, err := second.file(ctx, documents[1], sides[1], clean)
		if err != nil {
			return nil, err
		}
		if !hadIt && !hasIt {
			return nil, flow.Usagef("neither image has a file /%s", clean)
		}
		out.Texts = append(out.Texts, report.TextDifference{Path: "/" + clean, Lines: lineByLine(string(was), string(now))})
	}
	return out, nil
}

// common chooses a platform that both have, the first such; without one each keeps its own.
func common(all, others []image.Offer, one, other image.Offer) (image.Offer, image.Offer) {
	for _, a := range all {
		for _, b := range others {
			if a.Platform.String() == b.Platform.String() {
				return a, b
			}
		}
	}
	return one, other
}

func sideOf(s *Source, chosen image.Offer, all []image.Offer) report.Side {
	side := report.Side{Reference: s.Name, Digest: chosen.Descriptor.Digest, Root: s.Root.Digest}
	for _, one := range all {
		side.Platforms = append(side.Platforms, one.Platform.String())
	}
	return side
}

// mostText bounds a file whose text is compared, in bytes.
const mostText = 1 << 20

// file reads a file of an image by its path there, wherever its layers have it. A link is followed.
func (s *Source) file(ctx context.Context, d Documents, i *differ.Image, p string) (text []byte, is bool, err error) {
	view := tree.NewView()
	for l := range i.Layers {
		if err := view.Apply(i.Layers[l].Index.Entries, inLayer(l)); err != nil {
			return nil, false, err
		}
	}
	at, err := view.Resolve(p, true)
	if err != nil {
		return nil, false, nil
	}
	n, is := view.Lookup(at)
	if !is || n.Kind != tree.File {
		return nil, false, nil
	}
	if n.Size > mostText {
		return nil, false, flow.Usagef("/%s has %s: texts of at most %s are compared", p, report.Size(n.Size), report.Size(mostText))
	}
	l, is := n.From.(inLayer)
	if !is {
		return nil, false, nil
	}
	blob, err := s.From.Fetch(ctx, d.Manifest.Layers[l])
	if err != nil {
		return nil, false, err
	}
	defer blob.Close()
	_, _, err = layer.Weigh(digest.WithContext(ctx, blob), func(e *tree.Entry, body io.Reader) error {
		if e.Path != n.At {
			return nil
		}
		text, err = io.ReadAll(body) // the last of its path
		return err
	})
	return text, true, err
}

// inLayer tells a layer of a view.
type inLayer int

// Open implements tree.Contents: nothing is opened here.
func (inLayer) Open(string) (io.ReadCloser, error) { return nil, errors.ErrUnsupported }

// around is how many lines are told before and behind what differs.
const around = 3

// lineByLine tells how two texts differ: lines of both begin with a blank, those of the first alone with -, of the second with +, and … stands for
// those that are left out.
func lineByLine(was, now string) (lines []string) {
	if bytes.IndexByte([]byte(was+now), 0) >= 0 {
		return []string{"… it is no text"}
	}
	d := diffmatchpatch.New()
	a, b, words := d.DiffLinesToChars(was, now)
	parts := d.DiffCharsToLines(d.DiffMain(a, b, false), words)
	for i, part := range parts {
		all := strings.Split(strings.TrimSuffix(part.Text, "\n"), "\n")
		switch part.Type {
		case diffmatchpatch.DiffDelete:
			lines = append(lines, prefixed("-", all)...)
		case diffmatchpatch.DiffInsert:
			lines = append(lines, prefixed("+", all)...)
		default:
			before, behind := around, around
			if i == 0 {
				before = 0
			}
			if i == len(parts)-1 {
				behind = 0
			}
			if len(all) > before+behind {
				all = slices.Concat(all[:before], []string{""}, all[len(all)-behind:])
				told := prefixed(" ", all)
				told[before] = "…"
				lines = append(lines, told...)
				continue
			}
			lines = append(lines, prefixed(" ", all)...)
		}
	}
	return lines
}

func prefixed(sign string, lines []string) []string {
	all := make([]string, len(lines))
	for i, line := range lines {
		all[i] = sign + strings.TrimSuffix(line, "\r")
	}
	return all
}
