// Command attack runs everything in the tests that attacks the program, and prints how often what was tried and held: commands
// against the sandbox that they run in, hostile registries, layers, archives and caches, faults in a store, kills at any moment
// and full disks. What is random goes on with other seeds where it is given some. Run it as root: it becomes other users.
//
//	go run ./scripts/attack [-seed FIRST] [-seeds N] [-v] [GROUP…]
package main

import (
	"bufio"
	"bytes"
	"encoding/json"
	"flag"
	"fmt"
	"os"
	"os/exec"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"text/tabwriter"
	"time"
)

// group is what is attacked together: tests by their packages.
type group struct {
	name  string
	tests map[string]string // patterns of tests by package
}

var groups = []group{
	{"sandbox", map[string]string{"./internal/engine/sandbox": "TestFirstProcess|TestProgram|TestOutOfReach|TestFilterRefuses|TestAsOthers|TestNothingStays|TestRacingLinks|TestKilledCaller|TestSameForEveryCaller"}},
	{"bounds", map[string]string{"./internal/engine/sandbox": "TestBounds|TestEndlessAnswers", "./internal/spec/recipe": "TestBoundedTexts", "./internal/content/layer": "TestBounds", "./internal/remote/registry": "TestTooLarge|TestDrip"}},
	{"chroot", map[string]string{"./internal/engine/sandbox": "TestChrootIsNoPrison|TestChrootTakesBack"}},
	{"trees and layers", map[string]string{"./internal/engine/sandbox": "TestHostileTrees", "./internal/content/layer": "TestHostileLayers|TestForeignLayers|TestDamagedTablesAreRefused", "./internal/content/image": "TestOffers", "./e2e": "TestHostileBase|TestHostilePull"}},
	{"archives", map[string]string{"./internal/engine": "TestHostileArchives|TestHostileKept", "./internal/remote/transfer": "TestHostileArchives"}},
	{"registries", map[string]string{"./internal/remote/transfer": "TestHostileRegistries", "./internal/remote/registry": "TestHostileBodies|TestHostileRegistries|TestForbiddenTargets|TestIssuers|TestSecretsStayHome|TestRetryAfter", "./e2e": "TestProxies"}},
	{"caches", map[string]string{"./internal/remote/share": "TestPoisoned|TestTrust", "./internal/content/store": "TestClaims|TestForget", "./e2e": "TestPoisonedCache|TestSharedCacheNeverFails"}},
	{"secrets", map[string]string{"./internal/engine": "TestSecretsAreClosed", "./internal/engine/command": "TestPrinted", "./internal/ground/redact": "Test", "./internal/ground/printable": "Test", "./internal/remote/credential": "Test", "./internal/cli": "TestEventsAreCovered"}},
	{"reuse", map[string]string{"./internal/engine": "TestHiddenReads|TestDamagedTrees|TestUntrueStores|TestReuseIsRight"}},
	{"store", map[string]string{"./internal/content/store": "TestCheckFindsDamage|TestSpoiltBlob|TestRecords", "./e2e": "TestStoreFaults"}},
	{"kills", map[string]string{"./e2e": "TestKillsLoseNothingFinished|TestKilled|TestKilledPush|TestShipInterrupted|TestInterruptLeavesNothingHalfWritten"}},
	{"full disks", map[string]string{"./e2e": "TestFullDisk"}},
}

// outcome is what came of a group.
type outcome struct {
	tests, attempts, failed, skipped int
	took                             time.Duration
}

// event is a line of what `go test -json` prints.
type event struct{ Action, Package, Test, Output string }

var (
	held   = regexp.MustCompile(`held: (\d+ )?`)
	naming = regexp.MustCompile(`^\s+\S+\.go:\d+: `)
)

// run runs the tests of a group.
func (g group) run(env []string, verbose bool) (o outcome, err error) {
	began := time.Now()
	packages := make([]string, 0, len(g.tests))
	for name := range g.tests {
		packages = append(packages, name)
	}
	slices.Sort(packages)
	for _, name := range packages {
		command := exec.Command("go", "test", "-json", "-count", "1", "-timeout", "6h", "-run", "^("+g.tests[name]+")", name)
		command.Env = env
		out, runErr := command.StdoutPipe()
		if runErr != nil {
			return o, runErr
		}
		command.Stderr = os.Stderr
		if err := command.Start(); err != nil {
			return o, err
		}
		before := o
		printed := map[string]*bytes.Buffer{}
		marks, inner := map[string]int{}, map[string]bool{}
		lines := bufio.NewScanner(out)
		lines.Buffer(nil, 16<<20)
		for lines.Scan() {
			var e event
			if json.Unmarshal(lines.Bytes(), &e) != nil {
				continue
			}
			o.count(&e, printed, marks, inner, verbose)
		}
		if err := command.Wait(); err != nil && o.failed == before.failed {
			return o, fmt.Errorf("%s: %w", name, err)
		}
	}
	o.took = time.Since(began)
	return o, nil
}

// count takes an event in. Attempts are what tests say they held, or their innermost parts where they say nothing.
func (o *outcome) count(e *event, printed map[string]*bytes.Buffer, marks map[string]int, inner map[string]bool, verbose bool) {
	switch e.Action {
	case "output":
		if printed[e.Test] == nil {
			printed[e.Test] = &bytes.Buffer{}
		}
		printed[e.Test].WriteString(e.Output)
		for _, m := range held.FindAllStringSubmatch(e.Output, -1) {
			n := 1
			if m[1] != "" {
				n, _ = strconv.Atoi(strings.TrimSpace(m[1]))
			}
			marks[e.Test] += n
			if verbose {
				fmt.Printf("  %s: %s", e.Test, naming.ReplaceAllString(e.Output, ""))
			}
		}
	case "run":
		if i := strings.LastIndexByte(e.Test, '/'); i >= 0 {
			inner[e.Test[:i]] = true
		}
	case "pass":
		if e.Test == "" {
			return
		}
		o.tests++
		if o.attempts += marks[e.Test]; marks[e.Test] == 0 && !inner[e.Test] {
			o.attempts++
		}
	case "skip":
		o.skipped++
	case "fail":
		if e.Test == "" {
			return
		}
		o.failed++
		if text := printed[e.Test]; text != nil {
			_, _ = os.Stdout.Write(text.Bytes())
		}
	}
}

func run() (failed int, err error) {
	first := flag.Uint64("seed", 1, "first seed of what is random")
	seeds := flag.Uint64("seeds", 0, "how many seeds; 0: as many as the tests take usually")
	verbose := flag.Bool("v", false, "print every attempt")
	flag.Parse()
	env := append(os.Environ(), "CGO_ENABLED=0")
	if *seeds > 0 {
		env = append(env, fmt.Sprint("IMBRICAT_TEST_SEED=", *first), fmt.Sprint("IMBRICAT_TEST_SEEDS=", *seeds))
	}
	table := tabwriter.NewWriter(os.Stdout, 0, 0, 3, ' ', 0)
	fmt.Fprintln(table, "group\tattempts\ttests\tfailed\tskipped\ttime")
	for _, g := range groups {
		if len(flag.Args()) > 0 && !slices.Contains(flag.Args(), g.name) {
			continue
		}
		fmt.Println(g.name)
		o, err := g.run(env, *verbose)
		if err != nil {
			return failed, fmt.Errorf("%s: %w", g.name, err)
		}
		failed += o.failed
		fmt.Fprintf(table, "%s\t%d\t%d\t%d\t%d\t%s\n", g.name, o.attempts, o.tests, o.failed, o.skipped, o.took.Round(time.Second))
	}
	fmt.Println()
	return failed, table.Flush()
}

func main() {
	if os.Geteuid() != 0 {
		fmt.Fprintln(os.Stderr, "attack: run it as root: it becomes other users")
		os.Exit(2)
	}
	failed, err := run()
	if err != nil {
		fmt.Fprintln(os.Stderr, "attack:", err)
		os.Exit(2)
	}
	if failed > 0 {
		fmt.Println(failed, "did not hold")
		os.Exit(1)
	}
}
