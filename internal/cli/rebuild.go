package cli

import (
	"context"
	"os"
	"slices"
	"strings"

	"imbricat/internal/engine/executor"
	"imbricat/internal/engine/local"
	"imbricat/internal/engine/sandbox/conditions"
	"imbricat/internal/flow"
	"imbricat/internal/flow/prove"
	"imbricat/internal/flow/receipts"
	"imbricat/internal/flow/workspace"
	"imbricat/internal/ground/event"
	"imbricat/internal/ground/once"
	"imbricat/internal/ground/reference"
	"imbricat/internal/output/receipt"
	"imbricat/internal/output/report"
	"imbricat/internal/spec/plan"
)

func (s *session) proving(w *workspace.Workspace, c workspace.Choice, sink event.Sink) prove.Options {
	here := once.NewValue(s.sandbox(w.Store))
	return prove.Options{Work: w, Here: func(ctx context.Context, under func(c *executor.Command) conditions.Conditions) *local.Local {
		o := s.executing(w.Store, sink, w.Vouched)
		o.Under, o.Open = under, here.Get
		return local.New(ctx, o)
	}, Rounds: int(s.cmd.Int("rounds")), Cure: s.cmd.Bool("cure"), Sink: sink, Folders: []string{"/dev/shm", "/var/tmp", os.TempDir()},
		Open: func(_ context.Context, where prove.Where) (*prove.Elsewhere, error) {
			return s.proveIn(w, where, c, sink)
		}}
}

// isReference reports whether an argument names an image outside of the store, or by its digest.
func isReference(arg string) bool {
	ref, err := reference.Parse(arg)
	return err == nil && (ref.Kind != reference.Store || ref.Digest != "")
}

// rebuild builds again what was published, and compares.
func (s *session) rebuild(ctx context.Context, args []string) error {
	if len(args) > 1 {
		return flow.Usagef("verify builds one image again: REFERENCE --receipt FILE, or REFERENCE --source ADDRESS --revision REVISION")
	}
	var told *receipt.Receipt
	if name := s.cmd.String("receipt"); name != "" {
		var err error
		if told, err = receipts.Read(name); err != nil {
			return err
		}
	}
	all, err := s.publishedOf(told, args)
	if err != nil {
		return err
	}
	if err := s.mayState(s.statementFile(), besideAll(all)); err != nil {
		return err
	}
	view := s.view(ctx)
	defer view.Close("")
	documents := []*report.Rebuilt{}
	for _, one := range all {
		document, err := s.rebuildOne(ctx, one, view)
		if err != nil {
			return err
		}
		documents = append(documents, document)
	}
	view.Close("")
	equal := !slices.ContainsFunc(documents, func(r *report.Rebuilt) bool { return r.Equal == "" })
	if err := s.result(documents, func() string { return report.RebuiltText(s.paint, documents, int(s.cmd.Int("top"))) }); err != nil {
		return err
	}
	if !equal {
		return flow.Differsf("what was published could not be built again as it is; nothing was changed")
	}
	return s.stateRebuilt(ctx, documents, told)
}

func (s *session) rebuildOne(ctx context.Context, one prove.Published, sink event.Sink) (*report.Rebuilt, error) {
	choice := workspace.Choice{Images: []string{one.Image}}
	if one.Receipt != nil {
		choice.Facts = one.Receipt.Facts
	}
	p, err := s.plan(choice)
	if err != nil {
		return nil, err
	}
	w, err := s.workOn(p)
	if err != nil {
		return nil, err
	}
	return prove.Rebuild(ctx, s.proving(w, choice, sink), one)
}

// publishedOf finds what is to be built again: what a reference names, or all that a receipt tells of.
func (s *session) publishedOf(r *receipt.Receipt, args []string) (all []prove.Published, err error) {
	if len(args) == 1 {
		ref, err := reference.Parse(args[0])
		if err != nil {
			return nil, flow.WrongUse(err)
		}
		name, err := s.imageAt(ref, r)
		return []prove.Published{{Reference: ref, Image: name, Receipt: r}}, err
	}
	for _, i := range r.Images {
		at := reference.Reference{Kind: reference.Store, Digest: i.Digest}
		for _, d := range i.Destinations {
			if d.Reference != "" && d.Platform == "" {
				if at, err = reference.Parse(d.Reference); err != nil {
					return nil, flow.WrongUse(err)
				}
				break
			}
		}
		all = append(all, prove.Published{Reference: at, Image: i.Name, Receipt: r})
	}
	if len(all) == 0 {
		return nil, flow.Usagef("the receipt tells of no image")
	}
	return all, nil
}

// imageAt finds the image of the recipe that a reference is of: by the receipt, or by where the recipe publishes it.
func (s *session) imageAt(ref reference.Reference, r *receipt.Receipt) (string, error) {
	choice := workspace.Choice{}
	if r != nil {
		choice.Facts = r.Facts
		for _, i := range r.Images {
			if i.Digest == ref.Digest || slices.ContainsFunc(i.Destinations, func(d receipt.Destination) bool { return d.Repository == ref.Host+"/"+ref.Repository }) {
				return i.Name, nil
			}
		}
	}
	p, err := s.plan(choice)
	if err != nil {
		return "", err
	}
	var names []string
	for _, i := range p.Plan.Images {
		if slices.ContainsFunc(i.Destinations, func(d plan.Destination) bool {
			return d.Repository.Host == ref.Host && d.Repository.Repository == ref.Repository
		}) {
			return i.Name, nil
		}
		names = append(names, i.Name)
	}
	if len(names) == 1 {
		return names[0], nil
	}
	return "", flow.Usagef("the recipe publishes none of its images (%s) to %s/%s", strings.Join(names, ", "), ref.Host, ref.Repository)
}
