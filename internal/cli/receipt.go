package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	specs "github.com/opencontainers/image-spec/specs-go"
	v1 "github.com/opencontainers/image-spec/specs-go/v1"
	"github.com/urfave/cli/v3"

	"imbricat/internal/content/image"
	"imbricat/internal/content/store"
	"imbricat/internal/flow"
	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/platform"
	"imbricat/internal/ground/reference"
	"imbricat/internal/output/receipt"
	"imbricat/internal/output/report"
	"imbricat/internal/remote/transfer"
	"imbricat/internal/spec/recipe"
)

// runFlags are those of commands that a pipeline runs: what they write beside their result.
func runFlags() []cli.Flag {
	return append([]cli.Flag{
		&cli.StringFlag{Name: "receipt", Usage: "write the receipt to this `PLACE`: a file, or HOST/REPOSITORY:TAG, whose tag gets the platforms behind it", Sources: env("RECEIPT")},
		&cli.StringFlag{Name: "values", Usage: "add the receipt's digests, references and tags to this `FILE` as KEY=VALUE lines", Sources: env("VALUES")},
	}, progressFlags()...)
}

// receiptRecorder fills the receipt of a run and writes it at the end, however the run ended.
type receiptRecorder struct {
	s    *session
	r    *receipt.Receipt
	part string // of the run that is under way
}

// begin begins the receipt of a run. Places that could not be written to in the end are found now.
func (s *session) begin(command string) (*receiptRecorder, error) {
	k := &receiptRecorder{s: s, part: "recipe", r: &receipt.Receipt{Command: command, Program: "imbricat " + version(), Began: time.Now().UTC().Truncate(time.Second)}}
	if _, err := s.openEvents(); err != nil {
		return nil, err
	}
	place := s.cmd.String("receipt")
	ref, inRegistry := registryPlace(place)
	switch {
	case inRegistry && ref.Tag == "":
		return nil, flow.Usagef("--receipt %s needs a tag: none is assumed", ref)
	case place != "" && !inRegistry:
		if err := os.MkdirAll(filepath.Dir(place), 0o755); err != nil {
			return nil, flow.Usagef("--receipt: %w", err)
		}
	}
	return k, nil
}

// writes lists the files that the run writes down into the project folder, relative to it.
func (s *session) writes() (list []string) {
	dir, err := filepath.Abs(s.cmd.String("dir"))
	for _, flag := range []string{"receipt", "values", "events"} {
		name := s.cmd.String(flag)
		if _, inRegistry := registryPlace(name); err != nil || name == "" || inRegistry {
			continue
		}
		if below, is := inside(dir, name); is {
			list = append(list, below)
		}
	}
	return list
}

// registryPlace tells whether a place is in a registry.
func registryPlace(place string) (reference.Reference, bool) {
	ref, err := reference.Parse(place)
	return ref, err == nil && ref.Kind == reference.Registry
}

// from notes what is built from.
func (k *receiptRecorder) from(p *planned) {
	r := k.r
	r.Recipe = &receipt.Recipe{File: p.recipe.File.Name, Digest: digest.FromBytes([]byte(p.recipe.File.Text()))}
	if text, err := os.ReadFile(k.s.lockPath()); err == nil {
		r.Recipe.Lock = digest.FromBytes(text)
	}
	if g := p.facts.Git; g.Known() {
		r.Revision = &receipt.Revision{Commit: g.Commit, Branch: g.Branch, Tag: g.Tag, Source: g.Source}
		if dirty, asked := p.facts.Known()["git.dirty"]; asked {
			is := dirty == "true"
			r.Revision.Dirty = &is
		}
	}
	r.Run = p.facts.Run()
	r.Facts = p.facts.Values(platform.Here(), k.s.veil.hides)
}

// built notes what a build made.
func (k *receiptRecorder) built(d *report.Build) {
	if d == nil {
		return
	}
	r := k.r
	r.Steps, r.Ran, r.Reused, r.Spared, r.Shared, r.Build = d.Steps, d.Ran, d.Reused, d.Spared, d.Shared, d.Number
	r.Warnings = append(r.Warnings, d.Warnings...)
	for _, i := range d.Images {
		one := receipt.Image{Name: i.Name, Digest: i.Digest, MediaType: i.MediaType, Size: i.Size}
		if created := known(i.Created); !created.IsZero() {
			one.Created = &created
		}
		for _, p := range i.Platforms {
			one.Platforms = append(one.Platforms, receipt.Platform{Platform: p.Platform, Digest: p.Digest, Layers: p.Layers, Packed: p.Packed})
		}
		r.Images = append(r.Images, one)
	}
}

// image gives the entry of an image, made where there is none.
func (k *receiptRecorder) image(ctx context.Context, st *store.Store, name string, desc digest.Descriptor) *receipt.Image {
	for i := range k.r.Images {
		if k.r.Images[i].Name == name {
			return &k.r.Images[i]
		}
	}
	one := receipt.Image{Name: name, Digest: desc.Digest, MediaType: desc.MediaType, Size: desc.Size}
	digests, _ := platformDigests(ctx, st, desc) // what cannot be read has none
	for p, d := range digests {
		one.Platforms = append(one.Platforms, receipt.Platform{Platform: p, Digest: d})
	}
	slices.SortFunc(one.Platforms, func(a, b receipt.Platform) int { return strings.Compare(a.Platform, b.Platform) })
	k.r.Images = append(k.r.Images, one)
	return &k.r.Images[len(k.r.Images)-1]
}

// shipped notes how far shipments came.
func (k *receiptRecorder) shipped(ctx context.Context, st *store.Store, shipments []*shipment) {
	for _, one := range shipments {
		to := receipt.Destination{Name: one.to.Name, Repository: one.to.Repository.String(), Held: one.held, Fixed: one.to.Fixed, Prefixes: one.to.Prefixes}
		to.Wanted = append(append([]string{}, one.to.Tags...), one.wanted...)
		if one.under != nil {
			r := one.under.Sofar()
			to.Tags, to.Sent, to.SentBytes, to.Mounted, to.MountedBytes, to.Skipped, to.SkippedBytes = r.Named, r.Sent, r.SentBytes, r.Mounted, r.MountedBytes, r.Skipped, r.SkippedBytes
			to.Seconds = time.Since(one.began).Seconds()
		}
		i := k.image(ctx, st, one.image, one.desc)
		if one.there {
			to.Reference = to.Repository + "@" + string(i.Digest)
		}
		i.Destinations = append(i.Destinations, to)
	}
}

// close tells the outcome and writes the receipt where it is wanted. The error of the run comes before that of writing.
func (k *receiptRecorder) close(ctx context.Context, err error) error {
	r := k.r
	r.Seconds = time.Since(r.Began).Seconds()
	switch {
	case err == nil && r.Outcome == "":
		r.Outcome = receipt.Done
	case err == nil:
	case ctx.Err() != nil:
		r.Outcome, r.Stopped = receipt.Interrupted, &receipt.Stop{Part: k.part, Message: "it was interrupted", Exit: exitInterrupted}
	default:
		r.Outcome, r.Stopped = receipt.Failed, &receipt.Stop{Part: k.part, Message: k.s.veil.cover(strings.TrimSpace(err.Error())), Exit: exitCode(err)}
	}
	writing := context.WithoutCancel(ctx)
	if ctx.Err() != nil { // whoever interrupts does not wait for a registry
		var enough func()
		writing, enough = context.WithTimeout(writing, 10*time.Second)
		defer enough()
	}
	return errors.Join(err, k.write(writing))
}

func (k *receiptRecorder) write(ctx context.Context) error {
	if name := k.s.cmd.String("values"); name != "" {
		if err := appendFile(name, k.r.Lines()); err != nil {
			return err
		}
	}
	place := k.s.cmd.String("receipt")
	if place == "" {
		return nil
	}
	text, err := k.r.Encode()
	if err != nil {
		return err
	}
	if ref, inRegistry := registryPlace(place); inRegistry {
		return k.s.publishReceipt(ctx, ref, text, k.r)
	}
	return replaceFile(place, text)
}

// appendFile adds lines to a file, which several writers may share.
func appendFile(name, lines string) error {
	f, err := os.OpenFile(name, os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o644)
	if err == nil {
		_, err = f.WriteString(lines)
		err = errors.Join(err, f.Close())
	}
	if err != nil {
		return fmt.Errorf("writing the values: %w", err)
	}
	return nil
}

// receiptTag is the tag of a receipt in a repository: the given one with the platforms behind it.
func receiptTag(tag string, r *receipt.Receipt) string {
	seen := map[string]bool{}
	for _, i := range r.Images {
		for _, p := range i.Platforms {
			if !seen[p.Platform] {
				seen[p.Platform] = true
				tag += "-" + strings.ReplaceAll(p.Platform, "/", "-")
			}
		}
	}
	return recipe.MendTag(tag)
}

// publishReceipt puts a receipt into a repository, as an artifact with a tag.
func (s *session) publishReceipt(ctx context.Context, ref reference.Reference, text []byte, r *receipt.Receipt) error {
	if len(r.Images) == 0 {
		return nil // nothing was built that anybody could join
	}
	client, err := s.client()
	if err != nil {
		return err
	}
	repository := client.Repository(ref.Host, ref.Repository)
	layer := digest.Descriptor{MediaType: receipt.MediaType, Digest: digest.FromBytes(text), Size: int64(len(text))}
	manifest := v1.Manifest{Versioned: specs.Versioned{SchemaVersion: 2}, MediaType: v1.MediaTypeImageManifest, ArtifactType: receipt.MediaType,
		Config: v1.DescriptorEmptyJSON, Layers: []digest.Descriptor{layer}}
	manifest.Config.Data = nil
	body, err := json.Marshal(manifest)
	if err != nil {
		return err
	}
	for desc, content := range map[*digest.Descriptor][]byte{&manifest.Config: []byte("{}"), &layer: text} {
		if err := repository.PutBlob(ctx, *desc, func(at int64) (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(content[at:])), nil }); err != nil {
			return fmt.Errorf("keeping the receipt: %w", err)
		}
	}
	if err := repository.PutManifest(ctx, receiptTag(ref.Tag, r), v1.MediaTypeImageManifest, body); err != nil {
		return fmt.Errorf("keeping the receipt: %w", err)
	}
	return nil
}

// receiptIn reads the receipt that lies in a repository as an artifact. Nil: it is something else.
func receiptIn(ctx context.Context, place transfer.Place, root digest.Descriptor) (*receipt.Receipt, error) {
	if !image.IsManifest(root.MediaType) {
		return nil, nil
	}
	body, err := image.ReadDocument(ctx, place, root)
	if err != nil {
		return nil, err
	}
	var manifest v1.Manifest
	if json.Unmarshal(body, &manifest) != nil || manifest.ArtifactType != receipt.MediaType {
		return nil, nil
	}
	if len(manifest.Layers) != 1 || manifest.Layers[0].Size > receipt.Max || manifest.Layers[0].Digest.Validate() != nil {
		return nil, fmt.Errorf("%s is %w", place, receipt.ErrMalformed)
	}
	in, err := place.Fetch(ctx, manifest.Layers[0])
	if err != nil {
		return nil, err
	}
	defer in.Close()
	text, err := digest.ReadAll(in, manifest.Layers[0], receipt.Max)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", place, err)
	}
	return receipt.Decode(place.String(), bytes.NewReader(text))
}

// receiptFile tells whether an argument is the file of a receipt: it ends in .json, and is no folder and nothing in a registry.
func receiptFile(arg string) bool {
	if _, inRegistry := registryPlace(arg); inRegistry || !strings.HasSuffix(arg, ".json") {
		return false
	}
	info, err := os.Stat(arg)
	return err != nil || !info.IsDir()
}

func readReceipt(name string) (*receipt.Receipt, error) {
	f, err := os.Open(name)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, flow.Usagef("there is no receipt %s", name)
	}
	if err != nil {
		return nil, err
	}
	defer f.Close()
	r, err := receipt.Decode(name, f)
	if errors.Is(err, receipt.ErrMalformed) {
		err = flow.WrongUse(err)
	}
	return r, err
}
