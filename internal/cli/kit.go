package cli

import (
	"context"
	"fmt"
	"os"
	"path/filepath"

	"imbricat/internal/engine"
	"imbricat/internal/flow"
	"imbricat/internal/flow/kit"
	"imbricat/internal/flow/workspace"
	"imbricat/internal/output/report"
)

// openKit takes in the kit that the command line names, and has the plan's bases come from it; nil where it names none. What commands left is
// in a shared cache of its own, which is read in place of any other.
func (s *session) openKit(ctx context.Context, p *workspace.Planned) (*kit.List, error) {
	if to := s.cmd.String("kit-to"); to != "" {
		if info, err := os.Stat(filepath.Dir(to)); err != nil || !info.IsDir() {
			return nil, flow.Usagef("--kit-to: there is no folder %s", filepath.Dir(to))
		}
	}
	file := s.cmd.String("kit")
	if file == "" {
		return nil, nil
	}
	if s.cmd.IsSet("share") {
		return nil, flow.Usagef("--kit brings what commands left: leave --share out")
	}
	st, err := s.openStore()
	if err != nil {
		return nil, err
	}
	list, dir, err := kit.Open(ctx, st, file)
	if err != nil {
		return nil, err
	}
	s.atEnd(func() { _ = st.Discard(dir) }) // what stays is swept later
	if why := list.Differs(p); why != "" {
		fmt.Fprintf(s.err, "warning: %s, so what it lacks needs a network\n", why)
	}
	p.Pinned = list.Pinned()
	for flag, value := range map[string]string{"share": dir, "share-mode": "read"} {
		if err := s.cmd.Set(flag, value); err != nil {
			return nil, err
		}
	}
	return list, nil
}

// compareKit tells where a build came to something else than that which made the kit.
func (s *session) compareKit(list *kit.List, document *report.Build) {
	if list == nil {
		return
	}
	for _, i := range document.Images {
		if made, known := list.Images[i.Name]; known && made != i.Digest {
			fmt.Fprintf(s.err, "warning: %s is %s here, and was %s where the kit was made: its files, its facts or its commit differ\n", i.Name, i.Digest, made)
		}
	}
}

// makeKit writes what a build needs, where that is asked for.
func (s *session) makeKit(ctx context.Context, w *workspace.Workspace, result *engine.Result) error {
	file := s.cmd.String("kit-to")
	if file == "" {
		return nil
	}
	list, err := kit.Make(ctx, w, result, "imbricat "+version(), file)
	if err != nil {
		return fmt.Errorf("the kit: %w", err)
	}
	var bytes int64
	for _, d := range list.Blobs {
		bytes += d.Size
	}
	fmt.Fprintf(s.err, "wrote the kit %s: %s, %s of bases, downloads and layers (%s), and what commands learnt\n", file, report.Count(len(list.Bases), "base"), report.Count(len(list.Blobs), "blob"), report.Size(bytes))
	return nil
}
