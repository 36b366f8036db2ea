package cli

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"imbricat/demo"
	"imbricat/internal/engine/sandbox"
	"imbricat/internal/flow"
	"imbricat/internal/output/report"
)

func demoCommand() *cli.Command {
	return &cli.Command{
		Name: "demo", Usage: "a full example with its own data, offline",
		Description: "Writes the project of a made-up observatory into a folder, starts a stand-in registry on this machine, builds three\n" +
			"images for two platforms, one with pages that a command renders, pushes them, changes one file, ships again as a pipeline\n" +
			"does, and proves the images reproducible. Every command is printed before it runs. It cleans up after itself unless --keep names a folder.\n\nExample: imbricat demo --keep ./tideline",
		Flags:  []cli.Flag{&cli.StringFlag{Name: "keep", Usage: "`FOLDER` to leave everything in; it must not exist or be empty"}},
		Action: func(ctx context.Context, c *cli.Command) error { return runDemo(ctx, newSession(c)) },
	}
}

// tour is a run of the demo.
type tour struct {
	*session
	program string
	dir     string
	environ []string
}

func runDemo(ctx context.Context, s *session) error {
	if _, err := s.args(0, 0, "no arguments"); err != nil {
		return err
	}
	program, err := os.Executable()
	if err != nil {
		return err
	}
	dir, cleanUp, err := demoFolder(s.cmd.String("keep"))
	if err != nil {
		return err
	}
	defer cleanUp()
	t := &tour{session: s, program: program, dir: dir}
	if err := t.run(ctx); err != nil {
		return err
	}
	if s.cmd.String("keep") != "" {
		t.say("Everything is in %s: project/, store/, registry/ and receipt.json.", dir)
	}
	return nil
}

func demoFolder(keep string) (string, func(), error) {
	if keep == "" {
		dir, err := os.MkdirTemp("", "imbricat-demo-")
		return dir, func() { os.RemoveAll(dir) }, err
	}
	if err := os.MkdirAll(keep, 0o755); err != nil {
		return "", nil, flow.WrongUse(err)
	}
	if entries, err := os.ReadDir(keep); err != nil || len(entries) > 0 {
		return "", nil, flow.Usagef("the folder %s is not empty", keep)
	}
	dir, err := filepath.Abs(keep)
	return dir, func() {}, err
}

func (t *tour) say(format string, args ...any) {
	fmt.Fprintf(t.out, "\n%s\n", t.paint.Muted("# "+fmt.Sprintf(format, args...)))
}

// run goes through the whole example. Commits have fixed times; the lock, and so the later ones, name the registry's port.
func (t *tour) run(ctx context.Context) error {
	project := filepath.Join(t.dir, "project")
	t.say("A made-up observatory of tides, with its own data, in %s", project)
	if err := demo.Write(project); err != nil {
		return err
	}
	began := time.Date(2026, 6, 21, 9, 30, 0, 0, time.UTC)
	if _, err := demo.Commit(project, "Gauge and bulletin", "1.3.9", began); err != nil {
		return err
	}
	address, stop, err := t.startRegistry(ctx)
	if err != nil {
		return err
	}
	defer stop()
	t.environ = append(os.Environ(), "TIDELINE_REGISTRY="+address, "IMBRICAT_STORE="+filepath.Join(t.dir, "store"),
		"IMBRICAT_VIEW=lines", "IMBRICAT_DIR="+project)
	if t.paint.On {
		t.environ = append(t.environ, "IMBRICAT_COLOR=always")
	}
	t.say("The recipes say ${env.TIDELINE_REGISTRY}; it is %s here", address)
	t.say("The bases that images and stages start from, made of files alone and published")
	if err := t.each(ctx, []string{"build --dir " + quoted(project, "bases"), "push --dir " + quoted(project, "bases")}); err != nil {
		return err
	}
	t.say("The bases' tags may move; what they stand for now is written into imbricat.lock, which belongs into version control")
	if err := t.each(ctx, []string{"lock"}); err != nil {
		return err
	}
	if _, err := demo.Commit(project, "Hold the base", "1.4.0", began.Add(time.Hour)); err != nil {
		return err
	}
	t.say("What a build would do, without doing it")
	build, plan, push := t.images(ctx)
	if err := t.each(ctx, []string{plan}); err != nil {
		return err
	}
	t.say("Images for linux/amd64 and linux/arm64, under a version, a commit and a moving tag")
	if err := t.each(ctx, []string{build, push, "show gauge"}); err != nil {
		return err
	}
	if err := t.change(project); err != nil {
		return err
	}
	before := t.census()
	t.say("What a pipeline runs: one command that asks, builds, holds the recipe's checks, pushes, and writes a receipt")
	receipt := quoted(t.dir, "receipt.json")
	ship := strings.Replace(push, "push", "ship", 1) + " --receipt " + receipt
	if err := t.each(ctx, []string{ship, "verify " + receipt, "tags " + address + "/tides/gauge", "store list"}); err != nil {
		return err
	}
	after := t.census()
	t.say("The images are built again, without reuse, under another clock, order of folders, machine and file system")
	if err := t.each(ctx, []string{strings.Replace(push, "push", "verify", 1)}); err != nil {
		return err
	}
	t.say("After one changed file: %s packed; %s of %s came to the registry, which held %s of %s before.",
		report.Count(after.records-before.records, "layer"), report.Count(after.blobs-before.blobs, "blob"),
		report.Size(after.bytes-before.bytes), report.Count(before.blobs, "blob"), report.Size(before.bytes))
	return nil
}

// images returns the commands of the demo. One image takes in pages that a command renders; where this machine cannot run
// commands the others are built alone.
func (t *tour) images(ctx context.Context) (build, plan, push string) {
	dir, err := os.MkdirTemp(t.dir, "trial-")
	if err != nil {
		return "build", "plan", "push"
	}
	defer os.RemoveAll(dir)
	box, err := sandbox.Open(ctx, sandbox.Options{})
	if err == nil {
		_, err = box.Trial(ctx, dir, runtime.GOARCH)
		box.Close()
	}
	if err == nil {
		return "build", "plan", "push"
	}
	t.say("This machine cannot run commands: %s. The almanac, whose pages one renders, is left out", err)
	return "build gauge bulletin", "plan gauge bulletin", "push gauge bulletin"
}

// census is what the store and the registry hold, counted in their folders.
type census struct {
	records, blobs int
	bytes          int64
}

func (t *tour) census() census {
	var c census
	count := func(folder string, visit func(fs.FileInfo)) {
		_ = filepath.WalkDir(filepath.Join(t.dir, folder), func(_ string, d fs.DirEntry, err error) error {
			if err != nil || d.IsDir() {
				return err
			}
			if info, err := d.Info(); err == nil {
				visit(info)
			}
			return nil
		})
	}
	count("store/imbricat/records", func(fs.FileInfo) { c.records++ })
	count("registry/blobs", func(info fs.FileInfo) { c.blobs++; c.bytes += info.Size() })
	return c
}

func quoted(parts ...string) string { return "\x00" + filepath.Join(parts...) + "\x00" }

func (t *tour) change(project string) error {
	t.say("One page of the almanac changes, and the change is committed as 1.4.1")
	page := filepath.Join(project, "almanac", "pages", "index.html")
	text, err := os.ReadFile(page)
	if err != nil {
		return err
	}
	changed := strings.Replace(string(text), "hour by hour", "hour by hour, for the coming year", 1)
	if err := os.WriteFile(page, []byte(changed), 0o644); err != nil {
		return err
	}
	_, err = demo.Commit(project, "Say which year", "1.4.1", time.Date(2026, 6, 22, 16, 5, 0, 0, time.UTC))
	return err
}

// each prints commands and runs them with this very program.
func (t *tour) each(ctx context.Context, lines []string) error {
	for _, line := range lines {
		args := splitArgs(line)
		fmt.Fprintf(t.out, "\n%s\n", t.paint.Bold("$ imbricat "+strings.Join(args, " ")))
		c := t.command(ctx, args)
		c.Env, c.Stdout, c.Stderr = t.environ, t.out, t.out
		if err := c.Run(); err != nil {
			if ctx.Err() != nil {
				return ctx.Err()
			}
			return fmt.Errorf("the demo's command %q: %w", line, err)
		}
	}
	return nil
}

// splitArgs cuts a line at blanks; what quoted marks stays whole.
func splitArgs(line string) []string {
	var args []string
	for i, part := range strings.Split(line, "\x00") {
		if i%2 == 1 {
			args = append(args, part)
		} else {
			args = append(args, strings.Fields(part)...)
		}
	}
	return args
}

// command ends its program gently when the context ends.
func (t *tour) command(ctx context.Context, args []string) *exec.Cmd {
	c := exec.CommandContext(ctx, t.program, args...)
	c.Cancel = func() error { return c.Process.Signal(os.Interrupt) }
	c.WaitDelay = 5 * time.Second
	return c
}

// startRegistry starts the stand-in and reads its address from the line that it prints.
func (t *tour) startRegistry(ctx context.Context) (string, func(), error) {
	args := []string{"standin", "start", "--dir", filepath.Join(t.dir, "registry"), "--listen", "127.0.0.1:0"}
	t.say("A stand-in registry on this machine")
	fmt.Fprintf(t.out, "%s\n", t.paint.Bold("$ imbricat "+strings.Join(args, " ")+" &"))
	ctx, cancel := context.WithCancel(ctx)
	c := t.command(ctx, args)
	c.Stderr = io.Discard
	out, err := c.StdoutPipe()
	if err == nil {
		err = c.Start()
	}
	if err != nil {
		cancel()
		return "", nil, fmt.Errorf("starting the stand-in: %w", err)
	}
	stop := func() {
		cancel()
		_ = c.Wait()
	}
	address, err := bufio.NewReader(out).ReadString('\n')
	if err != nil {
		stop()
		return "", nil, fmt.Errorf("starting the stand-in: it printed no address: %w", err)
	}
	fmt.Fprint(t.out, address)
	return strings.TrimSpace(address), stop, nil
}
