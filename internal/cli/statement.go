package cli

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"imbricat/internal/flow"
	"imbricat/internal/flow/prove"
	"imbricat/internal/flow/workspace"
	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/files"
	"imbricat/internal/ground/reference"
	"imbricat/internal/output/receipt"
	"imbricat/internal/output/report"
	"imbricat/internal/spec/plan"
)

// attached is an image beside which a statement is put.
type attached struct {
	image  string // of the recipe; empty: it is not known
	at     reference.Reference
	digest digest.Digest
}

// besideOf lists where the images of a plan are published now. Where conditions keep all tags of an image back it may be anywhere by its digest.
func (s *session) besideOf(w *workspace.Workspace) (all []attached) {
	for _, i := range w.Plan.Images {
		places := w.Plan.Destinations(i.Name)
		tagged := func(d plan.Destination) bool { return len(d.Tags) > 0 }
		for _, to := range places {
			if !tagged(to) && slices.ContainsFunc(places, tagged) {
				continue
			}
			at := to.Repository
			at.Tag, at.Digest = "", ""
			if one := (attached{image: i.Name, at: at}); !slices.Contains(all, one) {
				all = append(all, one)
			}
		}
	}
	return all
}

// mayState refuses, before there is work, a statement that could not be written or put beside anything.
func (s *session) mayState(file string, beside []attached) error {
	if file != "" {
		if info, err := os.Stat(filepath.Dir(file)); err != nil || !info.IsDir() {
			return flow.Usagef("there is no folder %s for the statement", filepath.Dir(file))
		}
	}
	if s.cmd.Bool("attach") && len(beside) == 0 {
		return flow.Usagef("--attach puts the statement beside images that are published, and these are published nowhere")
	}
	return nil
}

// stateProof writes the statement of a proof, and puts it beside the images, where that is asked for.
func (s *session) stateProof(ctx context.Context, w *workspace.Workspace, d *report.Proof) error {
	about := prove.Predicate{Program: "imbricat " + version()}
	if g := w.Facts.Git; g.Known() {
		about.Source, about.Revision = g.Source, g.Commit
	}
	digests := map[string]digest.Digest{}
	for _, i := range d.Images {
		digests[i.Name] = i.Digest
	}
	beside := s.besideOf(w)
	for i := range beside {
		beside[i].digest = digests[beside[i].image]
	}
	return s.state(ctx, prove.Of(d, about), s.cmd.String("statement"), beside)
}

// stateRebuilt does the same for what was published. By default the statement lies beside the receipt.
func (s *session) stateRebuilt(ctx context.Context, all []*report.Rebuilt, r *receipt.Receipt) error {
	about := prove.Predicate{Program: "imbricat " + version()}
	if r != nil && r.Revision != nil {
		about.Source, about.Revision = r.Revision.Source, r.Revision.Commit
	}
	var beside []attached
	for _, one := range all {
		if ref, err := reference.Parse(one.Reference); err == nil && ref.Kind == reference.Registry {
			beside = append(beside, attached{at: ref, digest: one.Digest})
		}
	}
	return s.state(ctx, prove.OfRebuilt(all, about), s.statementFile(), beside)
}

// statementFile is where the statement goes: beside a receipt that is given, unless another file is named.
func (s *session) statementFile() string {
	file := s.cmd.String("statement")
	if name := s.cmd.String("receipt"); file == "" && name != "" {
		file = strings.TrimSuffix(name, ".json") + ".proof.json"
	}
	return file
}

// besideAll lists those of published images that are in a registry.
func besideAll(all []prove.Published) (beside []attached) {
	for _, one := range all {
		if one.Reference.Kind == reference.Registry {
			beside = append(beside, attached{image: one.Image, at: one.Reference})
		}
	}
	return beside
}

func (s *session) state(ctx context.Context, statement *prove.Statement, file string, beside []attached) error {
	text, err := statement.Encode()
	if err != nil {
		return err
	}
	if file != "" {
		if err := files.Replace(file, text, 0o644); err != nil {
			return fmt.Errorf("writing the statement: %w", err)
		}
		fmt.Fprintf(s.err, "note: what was proved is stated in %s\n", file)
	}
	if !s.cmd.Bool("attach") {
		return nil
	}
	client, err := s.client()
	if err != nil {
		return err
	}
	for _, one := range beside {
		name, err := prove.Attach(ctx, client, one.at, one.digest, statement)
		if err != nil {
			return err
		}
		fmt.Fprintf(s.err, "note: the statement is %s/%s@%s\n", one.at.Host, one.at.Repository, name)
	}
	return nil
}
