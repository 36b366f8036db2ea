package local

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/netip"
	"os"
	"slices"
	"strings"

	"imbricat/internal/content/filetree"
	"imbricat/internal/content/layer"
	"imbricat/internal/content/store"
	"imbricat/internal/content/tree"
	"imbricat/internal/engine/executor"
	"imbricat/internal/engine/sandbox"
	"imbricat/internal/engine/sandbox/conditions"
	"imbricat/internal/ground/digest"
)

// Place is where one command is about to run, with its view laid down.
type Place struct {
	Box  *sandbox.Box
	Spec *sandbox.Spec
	// Reached is what a command that has run reached of its Hosts, or was kept from.
	Reached []store.Reached

	hosts []string
	local *Local
	laid  []laidTree   // lowest first; none where the command works on a copy
	over  []digest.Key // the strata of the view, and the unpacked trees that stand for them
}

// Close removes the place.
func (p *Place) Close() { _ = p.local.store.Discard(p.Spec.Work) }

// Run runs the command.
func (p *Place) Run(ctx context.Context) (sandbox.Status, error) {
	if len(p.hosts) == 0 {
		return p.Box.Run(ctx, p.Spec)
	}
	if p.local.relay == nil {
		return sandbox.Status{}, errors.New("nothing here passes on what a command sends to its hosts")
	}
	if p.Spec.Door == nil {
		door, err := sandbox.NewDoor(netip.Prefix{})
		if err != nil {
			return sandbox.Status{}, err
		}
		defer door.Close()
		p.Spec.Door = door
	}
	p.Spec.Door.Listen(executor.RelayPort)
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	ended, relayed := make(chan struct{}), make(chan error, 1)
	go func() {
		err := p.pass(ctx, ended)
		if err != nil {
			cancel(err)
		}
		relayed <- err
	}()
	status, err := p.Box.Run(ctx, p.Spec)
	close(ended)
	return status, cmp.Or(<-relayed, err)
}

// pass passes on what the command sends until it has ended.
func (p *Place) pass(ctx context.Context, ended <-chan struct{}) error {
	begun, cancel := context.WithCancel(ctx)
	defer cancel()
	go func() {
		select {
		case <-ended:
			cancel()
		case <-begun.Done():
		}
	}()
	listener, err := p.Spec.Door.Listener(begun)
	if err != nil {
		return nil // the sandbox was not built, and says so itself
	}
	defer listener.Close()
	relay, err := p.local.relay(listener, p.hosts, p.Spec.Door.Dial)
	if err != nil {
		return err
	}
	<-ended
	p.Reached = relay.Close()
	return nil
}

// Prepare lays down what a command needs. Adjust, where it is given, has the last word before anything is unpacked.
func (l *Lease) Prepare(ctx context.Context, job executor.Job, adjust func(*sandbox.Spec) error) (*Place, error) {
	spec := &sandbox.Spec{Args: job.Args, Env: job.Env, Dir: job.Dir, UID: job.User.UID, GID: job.User.GID, Groups: job.User.Groups,
		Network: job.Network, FreshTmp: job.FreshTmp, Time: job.Time, ReadOnly: job.ReadOnly, Writable: job.Writable}
	spec.Under = l.local.conditions(job.Command)
	spec.Observe = spec.Under.Answered()
	for _, l := range job.Lent {
		if !l.Writable {
			spec.Sealed = append(spec.Sealed, l.At)
		}
	}
	if err := give(ctx, job, spec); err != nil {
		return nil, err
	}
	if err := l.local.vouch(ctx, job, spec); err != nil {
		return nil, err
	}
	if err := l.mount(ctx, job, spec); err != nil {
		return nil, err
	}
	work, err := l.local.store.TemporaryFolder()
	if err != nil {
		return nil, err
	}
	spec.Work = work
	p := &Place{Box: l.box, Spec: spec, hosts: job.Hosts, local: l.local}
	if err := p.setUp(ctx, job.View, adjust); err != nil {
		p.Close()
		return nil, err
	}
	return p, nil
}

// conditions are those under which a command runs: what it asks for itself comes before what all commands here get.
func (l *Local) conditions(c *executor.Command) (under conditions.Conditions) {
	if l.under != nil {
		under = l.under(c)
	}
	if c.FixedClock {
		under.Clock = layer.Epoch
	}
	if c.Sorted {
		under.Order = conditions.Sorted
	}
	return under
}

// hosts is the one list of machines that a command sees.
const hosts = "127.0.0.1 localhost " + sandbox.Hostname + "\n::1 localhost\n"

// give adds secrets and the small files of the machine.
func give(ctx context.Context, job executor.Job, spec *sandbox.Spec) error {
	view := job.View.Index
	public := func(at, text string) error {
		real, err := view.Resolve(strings.TrimPrefix(at, "/"), true)
		if err == nil {
			spec.Files = append(spec.Files, sandbox.Secret{At: "/" + real, Content: []byte(text), Mode: 0o644})
		}
		return err
	}
	if err := public("/etc/hosts", hosts); err != nil {
		return err
	}
	switch {
	case job.Nameserver != "":
		if err := public("/etc/resolv.conf", "nameserver "+job.Nameserver+"\n"); err != nil {
			return err
		}
	case job.Network:
		resolver, err := os.ReadFile("/etc/resolv.conf")
		if err != nil && !errors.Is(err, os.ErrNotExist) {
			return fmt.Errorf("reading the machine's resolver: %w", err)
		}
		if err := public("/etc/resolv.conf", string(resolver)); err != nil {
			return err
		}
	}
	for _, use := range job.Secrets {
		real, err := view.Resolve(strings.TrimPrefix(use.At, "/"), true)
		if err != nil {
			return err
		}
		secret, err := job.Secret(ctx, use.Name)
		if err != nil {
			return err
		}
		if secret.Socket != "" {
			spec.Mounts = append(spec.Mounts, sandbox.Mount{From: secret.Socket, At: "/" + real})
			spec.Env = append(slices.Clone(spec.Env), "SSH_AUTH_SOCK="+use.At)
			continue
		}
		spec.Secrets = append(spec.Secrets, sandbox.Secret{At: "/" + real, Content: secret.Value, UID: job.User.UID, GID: job.User.GID, Mode: 0o400})
	}
	return nil
}

// setUp unpacks what lies below and lays down what the mounts need.
func (p *Place) setUp(ctx context.Context, view *executor.View, adjust func(*sandbox.Spec) error) (err error) {
	spec := p.Spec
	spec.Top = tree.Entry{Kind: tree.Folder, Mode: 0o755}
	if n, exists := view.Index.Lookup(""); exists {
		spec.Top.Mode, spec.Top.UID, spec.Top.GID = n.Mode, n.UID, n.GID
	}
	if spec.Points, err = points(view.Index, spec); err != nil {
		return err
	}
	if adjust != nil {
		if err := adjust(spec); err != nil {
			return err
		}
	}
	if !p.Box.Overlay() {
		entries, feed := filetree.Whole(ctx, view.Index)
		return p.Box.Prepare(ctx, spec, entries, feed)
	}
	strata := view.Strata()
	for i, one := range slices.Backward(strata) {
		trees, err := p.local.lay(ctx, p.Box, one, strata[:i])
		if err != nil {
			return err
		}
		p.over = append(p.over, one.ID())
		for _, laid := range slices.Backward(trees) {
			// Of a tree that comes twice the higher one is enough: it has all that the lower one shows. The kernel takes no folder
			// twice.
			if !slices.Contains(spec.Lower, laid.dir) {
				laid.marks, _ = os.Stat(store.MarksOf(laid.dir))
				spec.Lower, p.laid = append(spec.Lower, laid.dir), append(p.laid, laid)
			}
			if laid.ID() != one.ID() {
				p.over = append(p.over, laid.ID())
			}
		}
	}
	slices.Reverse(p.laid)
	return p.Box.Prepare(ctx, spec, nil, nil)
}

// leadsOut reports whether a view has links through which a path may come to what only the running system knows: into
// /proc or /dev, or to the root, in which these lie.
func leadsOut(view *tree.View) bool {
	found := false
	view.Each(func(n *tree.Node) {
		if found || n.Kind != tree.Symlink {
			return
		}
		real, err := view.Resolve(n.Path, true)
		first, _, _ := strings.Cut(real, "/")
		found = err != nil || first == "" || first == "proc" || first == "dev"
	})
	return found
}

// points are the entries that mounts are put on, with the folders above them as the view has them.
func points(view *tree.View, spec *sandbox.Spec) ([]tree.Entry, error) {
	all := map[string]tree.Entry{}
	add := func(at string, kind tree.Kind) error {
		p := strings.TrimPrefix(at, "/")
		if n, exists := view.Lookup(p); exists && (n.Kind == tree.Folder) != (kind == tree.Folder) {
			return fmt.Errorf("%s is a %s in the view, and a %s is to be shown there", at, n.Kind, kind)
		} else if !exists {
			all[p] = tree.Entry{Path: p, Kind: kind, Mode: 0o755}
		}
		for above := tree.Parent(p); ; above = tree.Parent(above) {
			n, exists := view.Lookup(above)
			if exists && n.Kind != tree.Folder {
				return fmt.Errorf("/%s is a %s in the view, and %s is to be shown in it", above, n.Kind, at)
			}
			if _, known := all[above]; !known {
				all[above] = tree.Entry{Path: above, Kind: tree.Folder, Mode: 0o755}
				if exists {
					all[above] = filetree.Bare(n)
				}
			}
			if above == "" {
				return nil
			}
		}
	}
	for _, m := range spec.Mounts {
		kind := tree.Folder
		if info, err := os.Stat(m.From); err == nil && !info.IsDir() {
			kind = tree.File
		}
		if err := add(m.At, kind); err != nil {
			return nil, err
		}
	}
	for _, f := range slices.Concat(spec.Files, spec.Secrets) {
		if err := add(f.At, tree.File); err != nil {
			return nil, err
		}
	}
	var list []tree.Entry
	for _, e := range all {
		if e.Kind == tree.File {
			e.Content = digest.ContentBytes(nil)
		}
		list = append(list, e)
	}
	slices.SortFunc(list, func(a, b tree.Entry) int { return strings.Compare(a.Path, b.Path) })
	return list, nil
}
