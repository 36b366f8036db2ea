// Package receipts fills the receipt of a run while that goes on, keeps it in a file or as an artifact of a repository, and reads the
// receipts of other runs. What a receipt says, and how it is written, is package receipt's.
package receipts

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"imbricat/internal/content/image"
	"imbricat/internal/content/store"
	"imbricat/internal/flow"
	"imbricat/internal/flow/workspace"
	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/files"
	"imbricat/internal/ground/platform"
	"imbricat/internal/ground/redact"
	"imbricat/internal/ground/reference"
	"imbricat/internal/output/receipt"
	"imbricat/internal/output/report"
	"imbricat/internal/remote/registry"
)

// Options say where a receipt goes, and what it says of the program.
type Options struct {
	Command, Program string
	Place            string // a file, or HOST/REPOSITORY:TAG; empty: it is not kept
	Tests            string // file that gets its checks as a test report; empty: none
	Values           string // file that gets its digests, references and tags as KEY=VALUE lines; empty: none
	Redactor         *redact.Redactor
	Client           func() (*registry.Client, error)
	Exit             func(error) int // the program's exit code of an error
	// Closing, where it is given, is called with the receipt when all of it is known, before it is written.
	Closing     func(ctx context.Context, r *receipt.Receipt, err error) error
	Interrupted int // and of an interruption
}

// Recorder fills the receipt of a run and writes it at the end, however the run ended.
type Recorder struct {
	Receipt *receipt.Receipt
	Part    string // of the run that is under way
	o       Options
}

// Begin begins the receipt of a run. Places that could not be written to in the end are found now.
func Begin(o Options) (*Recorder, error) {
	k := &Recorder{o: o, Part: "recipe", Receipt: &receipt.Receipt{Command: o.Command, Program: o.Program, Began: time.Now().UTC().Truncate(time.Second)}}
	ref, inRegistry := InRegistry(o.Place)
	places := map[string]string{"--test-report": o.Tests}
	switch {
	case inRegistry && ref.Tag == "":
		return nil, flow.Usagef("--receipt %s needs a tag: none is assumed", ref)
	case !inRegistry:
		places["--receipt"] = o.Place
	}
	for flag, place := range places {
		if place == "" {
			continue
		}
		if err := os.MkdirAll(filepath.Dir(place), 0o755); err != nil {
			return nil, flow.Usagef("%s: %w", flag, err)
		}
	}
	return k, nil
}

// InRegistry reports whether a place is in a registry, and which.
func InRegistry(place string) (reference.Reference, bool) {
	ref, err := reference.Parse(place)
	return ref, err == nil && ref.Kind == reference.Registry
}

// From notes what is built from.
func (k *Recorder) From(p *workspace.Planned) {
	r := k.Receipt
	r.Recipe = &receipt.Recipe{File: p.Recipe.File.Name, Digest: digest.FromBytes([]byte(p.Recipe.File.Text()))}
	if text, err := os.ReadFile(p.LockPath()); err == nil {
		r.Recipe.Lock = digest.FromBytes(text)
	}
	if g := p.Facts.Git; g.Known() {
		r.Revision = &receipt.Revision{Commit: g.Commit, Branch: g.Branch, Tag: g.Tag, Source: g.Source}
		if dirty, asked := p.Facts.Known()["git.dirty"]; asked {
			is := dirty == "true"
			r.Revision.Dirty = &is
		}
	}
	r.Run = p.Facts.Run()
	r.Facts = p.Facts.Values(platform.Here(), k.o.Redactor.Hides)
}

// Built notes what a build made.
func (k *Recorder) Built(d *report.Build) {
	if d == nil {
		return
	}
	r := k.Receipt
	r.Steps, r.Ran, r.Reused, r.Spared, r.Shared, r.Build = d.Steps, d.Ran, d.Reused, d.Spared, d.Shared, d.Number
	r.Warnings = append(r.Warnings, d.Warnings...)
	for _, i := range d.Images {
		one := receipt.Image{Name: i.Name, Digest: i.Digest, MediaType: i.MediaType, Size: i.Size}
		if created := image.KnownTime(i.Created); !created.IsZero() {
			one.Created = &created
		}
		for _, p := range i.Platforms {
			one.Platforms = append(one.Platforms, receipt.Platform{Platform: p.Platform, Digest: p.Digest, Layers: p.Layers, Packed: p.Packed})
		}
		r.Images = append(r.Images, one)
	}
}

// Image returns the entry of an image, made where there is none.
func (k *Recorder) Image(ctx context.Context, st *store.Store, name string, desc digest.Descriptor) *receipt.Image {
	for i := range k.Receipt.Images {
		if k.Receipt.Images[i].Name == name {
			return &k.Receipt.Images[i]
		}
	}
	one := receipt.Image{Name: name, Digest: desc.Digest, MediaType: desc.MediaType, Size: desc.Size}
	digests, _ := image.PlatformDigests(ctx, st, desc) // what cannot be read has none
	for p, d := range digests {
		one.Platforms = append(one.Platforms, receipt.Platform{Platform: p, Digest: d})
	}
	slices.SortFunc(one.Platforms, func(a, b receipt.Platform) int { return strings.Compare(a.Platform, b.Platform) })
	k.Receipt.Images = append(k.Receipt.Images, one)
	return &k.Receipt.Images[len(k.Receipt.Images)-1]
}

// Close sets the outcome and writes the receipt where it is wanted. The error of the run comes before that of writing.
func (k *Recorder) Close(ctx context.Context, err error) error {
	r := k.Receipt
	r.Seconds = time.Since(r.Began).Seconds()
	switch {
	case err == nil && r.Outcome == "":
		r.Outcome = receipt.Done
	case err == nil:
	case ctx.Err() != nil:
		r.Outcome, r.Stopped = receipt.Interrupted, &receipt.Stop{Part: k.Part, Message: "it was interrupted", Exit: k.o.Interrupted}
	default:
		r.Outcome, r.Stopped = receipt.Failed, &receipt.Stop{Part: k.Part, Message: k.o.Redactor.Text(strings.TrimSpace(err.Error())), Exit: k.o.Exit(err)}
	}
	r.Complete()
	writing := context.WithoutCancel(ctx)
	if ctx.Err() != nil { // whoever interrupts does not wait for a registry
		var enough func()
		writing, enough = context.WithTimeout(writing, 10*time.Second)
		defer enough()
	}
	if k.o.Closing != nil {
		err = errors.Join(err, k.o.Closing(writing, r, err))
	}
	return errors.Join(err, k.write(writing))
}

func (k *Recorder) write(ctx context.Context) error {
	if name := k.o.Values; name != "" {
		if err := files.Append(name, k.Receipt.Lines()); err != nil {
			return err
		}
	}
	if name := k.o.Tests; name != "" {
		text, err := report.JUnit(k.Receipt)
		if err == nil {
			err = files.Replace(name, text, 0o644)
		}
		if err != nil {
			return fmt.Errorf("the test report: %w", err)
		}
	}
	place := k.o.Place
	if place == "" {
		return nil
	}
	text, err := k.Receipt.Encode()
	if err != nil {
		return err
	}
	if ref, inRegistry := InRegistry(place); inRegistry {
		return k.publish(ctx, ref, text)
	}
	return files.Replace(place, text, 0o644)
}
