package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"regexp"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"imbricat/internal/flow"
	"imbricat/internal/flow/building"
	"imbricat/internal/flow/receipts"
	"imbricat/internal/flow/settings"
	"imbricat/internal/flow/ship"
	"imbricat/internal/flow/workspace"
	"imbricat/internal/ground/event"
	"imbricat/internal/output/receipt"
	"imbricat/internal/output/report"
	"imbricat/internal/spec/plan"
)

func shipCommand() *cli.Command {
	flags := []cli.Flag{platformFlag(), factFlag(), affectedSinceFlag(), sandboxFlag(), jobsFlag(), keepGoingFlag(), freshFlag(), forceFlag(), dirtyFlag(), byDigestFlag(), fewerPlatformsFlag(), toFlag(), tagFlag(),
		&cli.BoolFlag{Name: "dry-run", Usage: "ask what can be asked before any work, and show which tags would be written where, and which not and why", Sources: env("DRY_RUN")},
		&cli.StringSliceFlag{Name: "without", Usage: "`PART` to leave out: " + strings.Join(ship.Parts, ", ") + "; may be given again, or hold several with commas", Sources: env("WITHOUT")},
		&cli.StringFlag{Name: "test-report", Usage: "write what became of the checks to this `FILE`, in the JUnit form", Sources: env("TEST_REPORT")},
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

func runShip(ctx context.Context, s *session) (err error) {
	if s.cmd.Bool("dry-run") {
		return s.shipDry(ctx)
	}
	var p *workspace.Planned
	defer func() { err = errors.Join(err, s.logOut(p)) }()
	o, err := s.shipOptions()
	if err != nil {
		return err
	}
	k, err := s.beginTelling("ship", func(ctx context.Context, r *receipt.Receipt, err error) error {
		s.annotate(r, err)
		if o.Leaves("notify") {
			return nil
		}
		return s.notify(ctx, p, r)
	})
	if err != nil {
		return err
	}
	k.Receipt.Machine = s.machine(ctx)
	s.logMachine(k.Receipt)
	p, err = s.ship(ctx, k, o)
	err = k.Close(ctx, err)
	if s.json() {
		return errors.Join(err, report.JSON(s.out, k.Receipt))
	}
	if k.Receipt.Stopped == nil || len(k.Receipt.Left) > 0 { // what was shipped is told also where the receipt could not be written
		err = errors.Join(err, s.print(report.ReceiptText(s.paint, k.Receipt, false)))
	}
	return err
}

func (s *session) shipOptions() (ship.Options, error) {
	o := ship.Options{Options: s.pushOptions()}
	for _, part := range strings.Split(strings.Join(s.cmd.StringSlice("without"), ","), ",") {
		if part = strings.TrimSpace(part); part != "" && !slices.Contains(ship.Parts, part) {
			return o, flow.Usagef("--without takes %s, not %q", strings.Join(ship.Parts, ", "), part)
		}
		o.Without = append(o.Without, part)
	}
	o.ByDigest = o.ByDigest || o.Leaves("tags")
	if o.Leaves("share") {
		if err := s.cmd.Set("share", "none"); err != nil {
			return o, err
		}
	}
	return o, nil
}

// shippable plans images, going where the command line says.
func (s *session) shippable(ctx context.Context, images []string, o ship.Options) (*workspace.Planned, error) {
	p, err := s.choose(ctx, workspace.Choice{Images: images, Checks: !o.Leaves("checks")})
	if err != nil {
		return nil, err
	}
	return s.redirectedPlan(p)
}

// shipDry asks and tells, and does nothing. No receipt is written: nothing was shipped.
func (s *session) shipDry(ctx context.Context) error {
	o, err := s.shipOptions()
	if err != nil {
		return err
	}
	images, _, err := s.freshSteps()
	if err != nil {
		return err
	}
	p, err := s.shippable(ctx, images, o)
	if err != nil {
		return err
	}
	document, nothing := &report.Asked{Tags: []report.AskedTag{}}, s.unaffected(p.Plan)
	var refused error
	if nothing == "" {
		if _, nothing, err = ship.Wanted(p, o); err != nil {
			return err
		}
		w, err := s.workOn(p)
		if err != nil {
			return err
		}
		unwritten, err := receipts.Begin(receipts.Options{Command: "ship"})
		if err != nil {
			return err
		}
		if document, refused = ship.New(w, unwritten, event.Discard, o).DryRun(ctx); document == nil {
			return refused
		}
	}
	document.Nothing = nothing
	return errors.Join(s.result(document, func() string { return report.AskedText(s.paint, document) }), refused)
}

// ship ships what is planned, as far as anything is to be done. The plan is returned as soon as there is one.
func (s *session) ship(ctx context.Context, k *receipts.Recorder, o ship.Options) (*workspace.Planned, error) {
	images, steps, err := s.freshSteps()
	if err != nil {
		return nil, err
	}
	p, err := s.shippable(ctx, images, o)
	if err != nil {
		return nil, err
	}
	k.From(p)
	if nothing := s.unaffected(p.Plan); nothing != "" {
		k.Receipt.Outcome, k.Receipt.Why = receipt.Nothing, nothing
		return p, nil
	}
	if err := building.CheckSteps(p.Plan, steps); err != nil {
		return p, err
	}
	if !o.Leaves("push") {
		wanted, nothing, err := ship.Wanted(p, o)
		if err != nil {
			return p, err
		}
		if nothing != "" {
			k.Receipt.Outcome, k.Receipt.Why = receipt.Nothing, nothing
			return p, nil
		}
		if len(wanted) < len(p.Plan.Images) {
			if p, err = s.shippable(ctx, wanted, o); err != nil {
				return nil, err
			}
		}
	}
	w, err := s.workOn(p)
	if err != nil {
		return p, err
	}
	view := s.view(ctx)
	defer view.Close("")
	o.Build = s.buildOptions(w, steps)
	err = ship.New(w, k, view, o).Do(ctx)
	view.Close("")
	var fails *ship.ChecksError
	if errors.As(err, &fails) {
		fmt.Fprint(s.err, report.ChecksText(s.errPaint, k.Receipt.Checks, false)+report.LooksText(s.errPaint, k.Receipt))
	}
	return p, err
}

// logOut forgets the logins of the destinations where that was asked for. What the environment gave was never kept.
func (s *session) logOut(p *workspace.Planned) error {
	if !s.cmd.Bool("logout") {
		return nil
	}
	file := settings.Credentials()
	places, err := file.Hosts()
	for _, place := range places {
		if host, _, _ := strings.Cut(place, "/"); s.goesTo(p, host) {
			_, forgetErr := file.Forget(place)
			err = errors.Join(err, forgetErr)
		}
	}
	return err
}

var envNames = regexp.MustCompile(`\benv\.([A-Za-z_][A-Za-z0-9_]*)`)

// recipeText is what the recipe says, with those that it names; empty where there is none.
func (s *session) recipeText() string {
	r, _ := s.project().Recipe()
	if r == nil {
		return ""
	}
	return r.File.Text() // also of one with mistakes
}

// goesTo reports whether a registry is one of the destinations'. Of a recipe with mistakes, which has no plan, every registry counts that its text
// names, or that the variables and facts do which it asks for.
func (s *session) goesTo(p *workspace.Planned, host string) bool {
	if p != nil && !s.cmd.IsSet("affected-since") { // which may leave destinations out
		return slices.ContainsFunc(p.Plan.Images, func(i *plan.Image) bool {
			return slices.ContainsFunc(i.Destinations, func(d plan.Destination) bool { return d.Repository.Host == host })
		})
	}
	text := s.recipeText()
	places := append([]string{text}, s.cmd.StringSlice("fact")...)
	for _, name := range envNames.FindAllStringSubmatch(text, -1) {
		places = append(places, os.Getenv(name[1]))
	}
	return slices.ContainsFunc(places, func(place string) bool { return strings.Contains(place, host) })
}
