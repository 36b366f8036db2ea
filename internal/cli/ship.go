package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"regexp"
	"slices"
	"strings"

	v1 "github.com/opencontainers/image-spec/specs-go/v1"
	"github.com/urfave/cli/v3"

	"imbricat/internal/content/image"
	"imbricat/internal/content/store"
	"imbricat/internal/engine"
	"imbricat/internal/engine/check"
	"imbricat/internal/flow"
	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/event"
	"imbricat/internal/ground/say"
	"imbricat/internal/output/receipt"
	"imbricat/internal/output/report"
	"imbricat/internal/output/tui"
	"imbricat/internal/remote/registry"
	"imbricat/internal/remote/transfer"
	"imbricat/internal/spec/facts"
	"imbricat/internal/spec/plan"
	"imbricat/internal/spec/recipe"
)

// shipParts are what ship can leave out.
var shipParts = []string{"lock", "share", "checks", "push", "tags"}

func shipCommand() *cli.Command {
	flags := []cli.Flag{platformFlag(), factFlag(), sandboxFlag(), jobsFlag(), freshFlag(), forceFlag(), dirtyFlag(), byDigestFlag(),
		&cli.StringSliceFlag{Name: "without", Usage: "`PART` to leave out: " + strings.Join(shipParts, ", ") + "; may be given again, or hold several with commas", Sources: env("WITHOUT")},
		&cli.BoolFlag{Name: "logout", Usage: "forget the logins of the destinations' registries at the end, whatever happened", Sources: env("LOGOUT")}}
	return &cli.Command{
		Name: "ship", Usage: "the pipeline's one command: build, check, push, receipt", ArgsUsage: "[IMAGE…] [--fresh [STEP…]]",
		Description: "Checks the lock; asks every destination for the right to push, and whether the tags may be written, before any work;\n" +
			"builds all platforms; holds the recipe's checks; sends all content everywhere, and then writes every tag. Where no\n" +
			"tag's condition holds there is nothing to do. It asks no questions; running it again sends what is missing alone.\n\n" +
			"Example: imbricat ship --receipt ../receipt.json",
		Flags:  slices.Concat(flags, shareFlags(), runFlags()),
		Action: func(ctx context.Context, c *cli.Command) error { return runShip(ctx, newSession(c)) },
	}
}

// shipRun is a run of ship.
type shipRun struct {
	*session
	*receiptRecorder
	p         *planned
	st        *store.Store
	opener    *transfer.Places
	view      tui.View
	shipments []*shipment
	without   []string
	fresh     []string                                      // steps to do again; none with --fresh: all
	made      func(image string) (digest.Descriptor, error) // what was built, whatever the store's names stand for meanwhile
}

func runShip(ctx context.Context, s *session) (err error) {
	v := &shipRun{session: s}
	defer func() { err = errors.Join(err, v.logOut()) }()
	if v.receiptRecorder, err = s.begin("ship"); err != nil {
		return err
	}
	for _, part := range strings.Split(strings.Join(s.cmd.StringSlice("without"), ","), ",") {
		if part = strings.TrimSpace(part); part != "" && !slices.Contains(shipParts, part) {
			return flow.Usagef("--without takes %s, not %q", strings.Join(shipParts, ", "), part)
		}
		v.without = append(v.without, part)
	}
	if v.leaves("share") {
		if err := s.cmd.Set("share", "none"); err != nil {
			return err
		}
	}
	err = v.run(ctx)
	if v.view != nil {
		v.view.Close("")
	}
	if v.st != nil {
		v.shipped(ctx, v.st, v.shipments)
	}
	err = v.close(ctx, err)
	if s.json() {
		return errors.Join(err, report.JSON(s.out, v.r))
	}
	if v.r.Stopped == nil { // what was shipped is told also where the receipt could not be written
		err = errors.Join(err, report.WriteReceipt(s.out, s.paint, v.r, false))
	}
	return err
}

func (v *shipRun) leaves(part string) bool { return slices.Contains(v.without, part) }

func (v *shipRun) byDigest() bool { return v.cmd.Bool("by-digest") || v.leaves("tags") }

// run goes through the parts in their order. What can be refused without work is refused before any.
func (v *shipRun) run(ctx context.Context) error {
	if err := v.resolve(); err != nil || v.r.Outcome == receipt.Nothing {
		return err
	}
	if err := v.checkLock(); err != nil {
		return err
	}
	var err error
	if v.st, err = v.openStore(); err != nil {
		return err
	}
	if v.opener, err = v.session.opener(v.st); err != nil {
		return err
	}
	v.view = v.session.view(ctx)
	if !v.leaves("push") {
		v.tellNarrowed()
		v.part = "destinations"
		if err := v.askDestinations(ctx); err != nil {
			return err
		}
	}
	if err := v.checkDirty(ctx); err != nil {
		return err
	}
	v.part = "build"
	document, _, err := v.session.build(ctx, v.p, v.st, v.view, v.cmd.Bool("fresh") && len(v.fresh) == 0, v.fresh)
	v.built(document)
	if err != nil {
		return err
	}
	made := map[string]digest.Descriptor{}
	for _, i := range document.Images {
		made[i.Name] = digest.Descriptor{MediaType: i.MediaType, Digest: i.Digest, Size: i.Size}
	}
	v.made = func(name string) (digest.Descriptor, error) { return made[name], nil }
	if !v.leaves("checks") {
		v.part = "checks"
		if err := v.check(ctx); err != nil {
			return err
		}
	}
	if v.leaves("push") {
		return nil
	}
	v.part = "push"
	if v.shipments, err = v.session.shipments(ctx, v.p, v.st, v.byDigest(), v.made); err != nil {
		return err
	}
	if err := holdBackPrefixes(ctx, v.opener, v.shipments, v.cmd.Bool("force")); err != nil {
		return err
	}
	return v.session.ship(ctx, v.opener, v.p, v.st, v.shipments, v.view, &v.part)
}

// resolve reads the recipe with its facts, and leaves out the images that no tag is to be given.
func (v *shipRun) resolve() (err error) {
	images, steps, err := v.freshSteps()
	if err != nil {
		return err
	}
	if v.p, err = v.makePlan(images); err != nil {
		return err
	}
	v.from(v.p)
	v.fresh = steps
	if err := checkSteps(v.p.plan, steps); err != nil {
		return err
	}
	if v.leaves("push") {
		return nil
	}
	if !slices.ContainsFunc(v.p.plan.Images, func(i *plan.Image) bool { return len(i.Destinations) > 0 }) {
		return flow.Usagef("the recipe names no destination: write publish: under the image, or ship --without push")
	}
	if v.byDigest() {
		return nil
	}
	var wanted, held, asks []string
	for _, i := range v.p.plan.Images {
		tags := 0
		for _, d := range i.Destinations {
			tags += len(d.Tags)
			for _, h := range d.Held {
				held = append(held, fmt.Sprintf("%s of %s needs %s", h.Tag, i.Name, h.When))
				asks = append(asks, h.Git...)
			}
		}
		if tags > 0 {
			wanted = append(wanted, i.Name)
		}
	}
	switch {
	case len(wanted) == 0 && len(held) == 0:
		v.r.Outcome, v.r.Why = receipt.Nothing, "no destination names a tag; --by-digest pushes without one"
	case len(wanted) == 0:
		slices.Sort(held)
		v.r.Outcome, v.r.Why = receipt.Nothing, "no tag's condition holds: "+strings.Join(slices.Compact(held), "; ")+unknownHere(v.p.facts.Git, asks)
	case len(wanted) < len(v.p.plan.Images):
		v.p, err = v.makePlan(wanted)
	}
	return err
}

// unknownHere tells what conditions might have needed that is not known of this clone. Asks are names of version control.
func unknownHere(g *facts.Git, asks []string) string {
	if !g.Known() {
		return ""
	}
	var text string
	if g.Branch == "" && slices.Contains(asks, "branch") {
		text += " (a commit is checked out and no branch; " + facts.BranchVariable + " tells which it is of)"
	}
	if g.Tag == "" && g.Shallow() && slices.Contains(asks, "tag") {
		text += " (no tag is on the commit, and the clone is shallow, so it may lack tags)"
	}
	return text
}

// tellNarrowed says where --platform has tags stand on an index that lacks platforms of the recipe.
func (v *shipRun) tellNarrowed() {
	if v.byDigest() {
		return
	}
	for _, i := range v.p.plan.Images {
		at := slices.IndexFunc(v.p.recipe.Images, func(r recipe.Image) bool { return r.Name == i.Name })
		if missing := len(v.p.recipe.Images[at].Platforms) - len(i.Units); missing > 0 && len(i.Destinations) > 0 {
			v.view.Send(event.Warning{Code: event.Platforms, Text: fmt.Sprintf("the tags of %s will stand on an index without %s of the recipe: with --by-digest it can be joined with the others", i.Name, report.Count(missing, "platform"))})
		}
	}
}

// checkLock demands that a lock which is there holds every base that the recipe names by a tag.
func (v *shipRun) checkLock() error {
	v.part = "lock"
	held, err := v.readLock()
	if err != nil || held == nil || v.leaves("lock") {
		return err
	}
	for _, ref := range moving(v.p.plan) {
		if held.Bases[ref.String()] == "" {
			return flow.Differsf("%s is stale: it does not hold %s, which the recipe names; `imbricat lock` refreshes it", v.lockPath(), ref)
		}
	}
	return nil
}

// checkDirty refuses before any work what push would refuse after it: tags that name a commit, for other files.
func (v *shipRun) checkDirty(ctx context.Context) error {
	if v.byDigest() || v.leaves("push") {
		return nil
	}
	o, done, err := v.builder(ctx, v.p, v.st, v.view)
	if err != nil {
		return err
	}
	defer done()
	for _, i := range v.p.plan.Images {
		changed, err := engine.Dirty(o.Inputs, i)
		if err != nil {
			return err
		}
		for _, d := range i.Destinations {
			if len(changed) == 0 {
				continue
			}
			if err := v.refuseDirty(i.Name, d, fmt.Sprintf("it takes in %s that %s from the commit (%s)",
				report.Count(len(changed), "file"), plural(len(changed), "differs", "differ"), say.Some(changed))); err != nil {
				return err
			}
		}
	}
	return nil
}

func plural(n int, one, many string) string {
	if n == 1 {
		return one
	}
	return many
}

// askDestinations asks for the right to push, and refuses what is known already to be refused in the end: a fixed tag on
// another commit, and a moving one on a later.
func (v *shipRun) askDestinations(ctx context.Context) error {
	asked := map[string]bool{}
	for _, i := range v.p.plan.Images {
		for _, d := range i.Destinations {
			if len(d.Tags) == 0 && !v.byDigest() {
				continue
			}
			repository := v.opener.Client.Repository(d.Repository.Host, d.Repository.Repository)
			if name := d.Repository.String(); !asked[name] {
				asked[name] = true
				if err := repository.MayPush(ctx); err != nil {
					return fmt.Errorf("%s cannot be pushed to: %w", name, err)
				}
			}
			if v.byDigest() {
				continue
			}
			one := &shipment{image: i.Name, to: d}
			if err := holdBackPrefixes(ctx, v.opener, []*shipment{one}, v.cmd.Bool("force")); err != nil {
				return err
			}
			if err := v.askTags(ctx, repository, i, one); err != nil {
				return err
			}
		}
	}
	return nil
}

func (v *shipRun) askTags(ctx context.Context, repository *registry.Repository, i *plan.Image, one *shipment) error {
	git, own := v.p.facts.Git, map[string]string{}
	if _, overridden := i.Units[0].Annotations[v1.AnnotationRevision]; git.Known() && !overridden {
		own[v1.AnnotationRevision] = git.Commit
	}
	guard := one.guard(v.cmd.Bool("force"), func(_ context.Context, stands registry.Document) (string, error) {
		return olderThan(git, own, stands), nil
	})
	for _, tag := range one.to.Tags {
		stands, err := repository.Tagged(ctx, tag, image.Accepted)
		var answer *registry.Error
		if errors.As(err, &answer) && answer.NotFound() || errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return err
		}
		refusal := &transfer.MoveError{Place: repository.String() + ":" + tag, Stands: stands.Descriptor.Digest, Wanted: "what would be built"}
		if guard.Fixed(tag) {
			if there := revisionOf(stands); there != "" && own[v1.AnnotationRevision] != "" && there != own[v1.AnnotationRevision] {
				refusal.Why = fmt.Sprintf("the tag is fixed and was built from the commit %s; give what is new a new tag", there)
				return refusal
			}
			continue
		}
		if guard.Older == nil {
			continue
		}
		if refusal.Why, err = guard.Older(ctx, tag, stands); err != nil {
			return err
		}
		if refusal.Why != "" {
			refusal.Why += "; --force moves it all the same"
			return refusal
		}
	}
	return nil
}

// check holds the checks of every image, all of them, and reports them together.
func (v *shipRun) check(ctx context.Context) error {
	var err error
	if v.r.Checks, err = v.checkAll(ctx, v.p, v.st, v.made, v.view); err != nil {
		return err
	}
	fails, unable := 0, 0
	for _, c := range v.r.Checks {
		switch c.Outcome {
		case check.Fails:
			fails++
		case check.Unable:
			unable++
		}
	}
	if fails+unable == 0 {
		return nil
	}
	v.view.Close("")
	report.WriteChecks(v.err, v.errPaint, v.r.Checks, false)
	kind := flow.Differs
	if fails == 0 {
		kind = flow.Unable
	}
	return &flow.Error{Kind: kind, Err: fmt.Errorf("%d of %s %s not hold; nothing was pushed", fails+unable, report.Count(len(v.r.Checks), "check"), plural(fails+unable, "does", "do"))}
}

// logOut forgets the logins of the destinations where that was asked for. What the environment gave was never kept.
func (v *shipRun) logOut() error {
	if !v.cmd.Bool("logout") {
		return nil
	}
	file := credentialFile()
	places, err := file.Hosts()
	for _, place := range places {
		if host, _, _ := strings.Cut(place, "/"); v.goesTo(host) {
			_, forgetErr := file.Forget(place)
			err = errors.Join(err, forgetErr)
		}
	}
	return err
}

var envNames = regexp.MustCompile(`\benv\.([A-Za-z_][A-Za-z0-9_]*)`)

// goesTo tells whether a registry is one of the destinations'. Of a recipe with mistakes every registry counts that its text
// names, or that the variables and facts do which it asks for.
func (v *shipRun) goesTo(host string) bool {
	if v.p != nil {
		return slices.ContainsFunc(v.p.plan.Images, func(i *plan.Image) bool {
			return slices.ContainsFunc(i.Destinations, func(d plan.Destination) bool { return d.Repository.Host == host })
		})
	}
	text, err := os.ReadFile(v.recipePath())
	if err != nil {
		return false
	}
	places := append([]string{string(text)}, v.cmd.StringSlice("fact")...)
	for _, name := range envNames.FindAllStringSubmatch(string(text), -1) {
		places = append(places, os.Getenv(name[1]))
	}
	return slices.ContainsFunc(places, func(place string) bool { return strings.Contains(place, host) })
}

// revisionOf is the commit that an image says it was built from.
func revisionOf(stands registry.Document) string { return saidBy(stands, v1.AnnotationRevision) }
