package cli

import (
	"context"
	"fmt"
	"os"
	"runtime"

	"imbricat/internal/engine/sandbox"
	"imbricat/internal/flow/notify"
	"imbricat/internal/flow/settings"
	"imbricat/internal/flow/workspace"
	"imbricat/internal/ground/machine"
	"imbricat/internal/ground/platform"
	"imbricat/internal/output/receipt"
	"imbricat/internal/output/report"
)

// notify tells the addresses of the recipe and of the settings what a run did. p is nil where there is no plan. What could not be told is a
// warning: the run is over.
func (s *session) notify(ctx context.Context, p *workspace.Planned, r *receipt.Receipt) error {
	var targets []notify.Target
	if p != nil {
		for _, n := range p.Plan.Notify {
			t := notify.Target{To: n.To, On: n.On}
			if n.Secret != "" {
				t.Key = func(ctx context.Context) ([]byte, error) { return p.Secret(ctx, n.Secret, s.err) }
			}
			targets = append(targets, t)
		}
	}
	personal, err := settings.Read()
	if err != nil {
		return nil // whoever needs them has said what is wrong with them
	}
	for _, n := range personal.Notify {
		t := notify.Target{To: n.To, On: n.On}
		if n.Key != "" {
			t.Key = func(context.Context) ([]byte, error) { return os.ReadFile(n.Key) }
		}
		targets = append(targets, t)
	}
	err = notify.Tell(ctx, "imbricat/"+version(), targets, r, &s.secrets)
	for _, n := range r.Notified {
		if n.Error != "" {
			fmt.Fprintf(s.err, "warning: %s was not told of the run: %s\n", n.To, n.Error)
		}
	}
	return err
}

// machine returns what a receipt says of where the run is.
func (s *session) machine(ctx context.Context) *receipt.Machine {
	m := machine.Here()
	out := &receipt.Machine{Name: m.Name, Platform: platform.Here().String(), System: m.System, Kernel: m.Kernel, Processors: m.Processors, User: "ordinary", Go: runtime.Version()}
	if m.Root {
		out.User = "root"
	}
	o := sandbox.Options{}
	if s.cmd.String("sandbox") == "chroot" {
		o.Kind = sandbox.Chroot
	}
	box, err := sandbox.Open(ctx, o)
	if err != nil {
		out.Sandbox = err.Error()
		return out
	}
	defer box.Close()
	out.Sandbox = string(box.Kind())
	return out
}

// logMachine tells in the log where the run is. Who looks at a terminal knows.
func (s *session) logMachine(r *receipt.Receipt) {
	if view := s.cmd.String("view"); view == "lines" || view == "auto" && !isTerminal(s.err) {
		fmt.Fprintln(s.err, s.errPaint.Muted("  on "+report.MachineLine(r.Program, r.Machine)))
	}
}
