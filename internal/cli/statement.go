package cli

import (
	"context"
	"fmt"
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
)

// attached is an image beside which a statement is put.
type attached struct {
	at     reference.Reference
	digest digest.Digest
}

// stateProof writes the statement of a proof, and puts it beside the images, where that is asked for.
func (s *session) stateProof(ctx context.Context, w *workspace.Workspace, d *report.Proof) error {
	about := prove.Predicate{Program: "imbricat " + version()}
	if g := w.Facts.Git; g.Known() {
		about.Source, about.Revision = g.Source, g.Commit
	}
	var beside []attached
	for _, i := range d.Images {
		for _, to := range w.Plan.Destinations(i.Name) {
			at := to.Repository
			if at.Tag, at.Digest = "", ""; !slices.Contains(beside, attached{at, i.Digest}) {
				beside = append(beside, attached{at, i.Digest})
			}
		}
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
			beside = append(beside, attached{ref, one.Digest})
		}
	}
	file := s.cmd.String("statement")
	if name := s.cmd.String("receipt"); file == "" && name != "" {
		file = strings.TrimSuffix(name, ".json") + ".proof.json"
	}
	return s.state(ctx, prove.OfRebuilt(all, about), file, beside)
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
	if len(beside) == 0 {
		return flow.Usagef("--attach puts the statement beside images that are published, and these are published nowhere")
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
