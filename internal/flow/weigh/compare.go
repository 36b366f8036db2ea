package weigh

import (
	"bytes"
	"context"
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
	was, err := side(ctx, first, chosen, all)
	if err != nil {
		return nil, err
	}
	now, err := side(ctx, second, other, others)
	if err != nil {
		return nil, err
	}
	if out.Difference, err = differ.Between(&was.Image, &now.Image); err != nil {
		return nil, err
	}
	for _, p := range texts {
		clean, err := tree.CleanPath(p)
		if err != nil {
			return nil, flow.WrongUse(err)
		}
		before, hadIt, err := was.file(ctx, clean)
		if err != nil {
			return nil, err
		}
		after, hasIt, err := now.file(ctx, clean)
		if err != nil {
			return nil, err
		}
		if !hadIt && !hasIt {
			return nil, flow.Usagef("neither image has a file /%s", clean)
		}
		out.Texts = append(out.Texts, report.TextDifference{Path: "/" + clean, Lines: lineByLine(string(before), string(after))})
	}
	return out, nil
}

// compared is an image that is compared, with its documents.
type compared struct {
	differ.Image
	read *Image
}

func side(ctx context.Context, s *Source, chosen image.Offer, all []image.Offer) (*compared, error) {
	read, err := s.open(ctx, chosen, all)
	if err != nil {
		return nil, err
	}
	layers, err := read.Layers(ctx)
	if err != nil {
		return nil, err
	}
	c := &compared{differ.Image{Layers: layers, Config: read.Config, Annotations: read.Manifest.Annotations}, read}
	for _, desc := range read.Manifest.Layers {
		c.Digests = append(c.Digests, desc.Digest)
	}
	return c, nil
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
	return report.Side{Reference: s.Name, Digest: chosen.Descriptor.Digest, Root: s.Root.Digest, Platforms: platformsOf(all)}
}

// mostText bounds a file whose text is compared, in bytes.
const mostText = 1 << 20

// file reads a file of an image by its path there, wherever its layers have it. A link is followed.
func (c *compared) file(ctx context.Context, p string) (text []byte, is bool, err error) {
	view := tree.NewView()
	for l := range c.Layers {
		if err := view.Apply(c.Layers[l].Index.Entries, tree.LayerNumber(l)); err != nil {
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
	l, is := n.From.(tree.LayerNumber)
	if !is {
		return nil, false, nil
	}
	blob, err := c.read.From.Fetch(ctx, c.read.Manifest.Layers[l])
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
