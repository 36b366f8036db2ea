package prove

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"time"

	"imbricat/internal/content/causes"
	"imbricat/internal/engine"
	"imbricat/internal/engine/executor"
	"imbricat/internal/engine/local"
	"imbricat/internal/engine/sandbox"
	"imbricat/internal/engine/sandbox/conditions"
	"imbricat/internal/output/report"
	"imbricat/internal/spec/plan"
)

// varied is what one making of all is done under.
type varied struct {
	began   time.Time
	ahead   time.Duration // the clock
	online  time.Duration // of commands with a network: certificates and lists of packages must still hold
	order   conditions.Order
	machine string
	cores   int
	first   int
	seed    uint64 // 0: random numbers are
}

// Names of machines that are made up.
var machines = []string{"mole", "skerry", "holm", "groyne"}

// vary chooses the conditions of a round.
func (p *prover) vary() *varied {
	n := p.proof.Rounds
	v := &varied{began: time.Now(), ahead: time.Duration(400*n)*24*time.Hour + time.Duration(5*n)*time.Hour + 17*time.Minute, online: 26*time.Hour + time.Duration(3*n)*time.Hour,
		order: conditions.Reversed, machine: machines[n%len(machines)], first: 2000 + 1500*(n%6)}
	if n%2 == 0 {
		v.order = conditions.Shuffled
	}
	if n%2 == 1 && runtime.NumCPU() > 1 {
		v.cores = 1
	}
	return v
}

// of are the conditions of a command.
func (v *varied) of(c *executor.Command) conditions.Conditions {
	return conditions.Conditions{Clock: time.Now().Add(v.clock(c.Outside())), Order: v.order, Processors: v.cores, Jitter: true, FirstPID: v.first, Machine: v.machine, Seed: v.seed}
}

func (v *varied) clock(network bool) time.Duration {
	if network {
		return v.online
	}
	return v.ahead
}

// surround has this program run as if somebody else had started it, elsewhere. It holds for the whole process, until restore is called.
func surround(n int) (restore func(), err error) {
	var undo []func()
	restore = func() {
		for _, act := range slices.Backward(undo) {
			act()
		}
	}
	for name, value := range map[string]string{"USER": "keeper", "LOGNAME": "keeper", "TZ": []string{"Pacific/Chatham", "America/St_Johns"}[n%2], "LANG": "tr_TR.UTF-8", "LC_ALL": "tr_TR.UTF-8", "HOSTNAME": machines[n%len(machines)]} {
		before, was := os.LookupEnv(name)
		if err := os.Setenv(name, value); err != nil {
			restore()
			return nil, err
		}
		undo = append(undo, func() {
			if was {
				_ = os.Setenv(name, before)
			} else {
				_ = os.Unsetenv(name)
			}
		})
	}
	before := umask([]int{0o077, 0o000}[n%2])
	undo = append(undo, func() { umask(before) })
	return restore, nil
}

// linkTo returns the project's folder by another name, below a folder. What version control knows lies at the top of its work tree, so
// that is what is linked to.
func linkTo(dir, below string) (string, error) {
	project, err := filepath.Abs(dir)
	if err != nil {
		return "", err
	}
	top, rest := project, ""
	for at := project; ; at = filepath.Dir(at) {
		if _, err := os.Lstat(filepath.Join(at, ".git")); err == nil {
			top = at
			if rest, err = filepath.Rel(at, project); err != nil {
				return "", err
			}
			break
		}
		if filepath.Dir(at) == at {
			break
		}
	}
	link := filepath.Join(below, "somewhere else")
	if err := os.Symlink(top, link); err != nil {
		return project, nil // a system without links
	}
	return filepath.Join(link, rest), nil
}

// fits is how much room another store needs at least, and how many times what the images hold, in bytes.
const (
	leastRoom = 256 << 20
	times     = 4
)

// room chooses a folder for another store: on another file system than the store's where one has room.
func (p *prover) room() string {
	need := int64(leastRoom)
	for _, d := range p.steps {
		need += times * d.Tree.Bytes
	}
	own, _ := systemOf(p.Work.Store.Dir())
	tell := func(name, what string) {
		if p.proof.Rounds == 1 {
			p.proof.Varied = append(p.proof.Varied, report.Condition{Name: name, What: what})
		}
	}
	for _, folder := range p.Folders {
		if s, err := systemOf(folder); err == nil && s.device != own.device && s.free > need && (!s.memory || s.free/2 > need) {
			tell("file system", fmt.Sprintf("%s in place of %s, with other inodes and sizes of folders", s.name(), own.name()))
			return folder
		}
	}
	if p.proof.Rounds == 1 {
		p.proof.Unvaried = append(p.proof.Unvaried, report.Condition{Name: "file system", What: "no other one has room for a second store; inodes are other ones"})
	}
	return os.TempDir()
}

// hasCommand reports whether some step is a command like that.
func (p *prover) hasCommand(like func(do plan.Run) bool) bool {
	return slices.ContainsFunc(p.Work.Plan.Units, func(u *plan.Unit) bool {
		return slices.ContainsFunc(u.Steps, func(s plan.Step) bool {
			do, is := s.Do.(plan.Run)
			return is && like(do)
		})
	})
}

// probe finds out what commands see, of what is the same for all of them and of what is varied. What does not hold is told and ends the proof.
func (p *prover) probe(ctx context.Context, ex *local.Local, dir string, v *varied) error {
	add := func(list *[]report.Condition, name, format string, values ...any) {
		*list = append(*list, report.Condition{Name: name, What: fmt.Sprintf(format, values...)})
	}
	add(&p.proof.Varied, "builder", "another project folder, USER, LOGNAME, HOSTNAME, TZ, LANG, LC_ALL and umask")
	if !p.hasCommand(func(plan.Run) bool { return true }) {
		return nil // nothing else meets what is varied
	}
	box, err := ex.Tried(ctx)
	if err != nil {
		return err
	}
	plain, err := box.Probe(ctx, filepath.Join(dir, "probe 1"), conditions.Conditions{})
	if err != nil {
		add(&p.proof.Unvaried, "probe", "what commands see could not be found out: %s", err)
		return nil
	}
	under := v.of(&executor.Command{})
	if box.Kind() == sandbox.Chroot {
		under.FirstPID = 0
	}
	other, err := box.Probe(ctx, filepath.Join(dir, "probe 2"), under)
	if err != nil {
		return err
	}
	for _, one := range []struct{ name, was, now, want string }{
		{"host name", plain.Host, other.Host, sandbox.Hostname},
		{"umask", plain.Umask, other.Umask, "022"},
		{"environment", strings.Join(plain.Env, " "), strings.Join(other.Env, " "), "LANG=C.UTF-8 PATH=/bin"},
		{"user and groups", plain.User, other.User, plain.User},
		{"folder", plain.Dir, other.Dir, "/names"},
		{"limits", strings.Join(plain.Limits, ", "), strings.Join(other.Limits, ", "), strings.Join(plain.Limits, ", ")},
		{"network", strings.Join(plain.Interfaces, " "), strings.Join(other.Interfaces, " "), "lo"},
	} {
		if one.was != one.now || one.was != one.want {
			if box.Kind() == sandbox.Chroot {
				add(&p.proof.Unvaried, one.name, "in a chroot it is the machine's: %s", one.was)
				continue
			}
			return fmt.Errorf("the sandbox does not hold what it is to hold: the %s of commands is %q, and was %q", one.name, one.now, one.was)
		}
		switch one.name {
		case "limits":
			add(&p.proof.Fixed, "limits", "of %d resources", len(plain.Limits))
		case "environment":
			add(&p.proof.Fixed, "environment", "what base and recipe say, and nothing of the builder's; so with the locale and the time zone")
		case "network":
			add(&p.proof.Fixed, "network: false", "a loopback alone")
		default:
			add(&p.proof.Fixed, one.name, "%s", one.was)
		}
	}
	return p.probed(plain, other, v)
}

// probed tells of what is varied whether a command sees it otherwise.
func (p *prover) probed(plain, other *sandbox.Seen, v *varied) error {
	tell := func(name string, differs bool, format string, values ...any) {
		c := report.Condition{Name: name, What: fmt.Sprintf(format, values...)}
		if differs {
			p.proof.Varied = append(p.proof.Varied, c)
		} else {
			p.proof.Unvaried = append(p.proof.Unvaried, report.Condition{Name: name, What: "it is the same on this machine"})
		}
	}
	day := func(seconds int64) string { return time.Unix(seconds, 0).UTC().Format(time.DateOnly) }
	network := ""
	if p.hasCommand(func(do plan.Run) bool { return do.Outside() }) {
		network = ", of commands with a network " + day(plain.Clock+int64(v.online.Seconds()))
	}
	tell("clock", other.Clock-plain.Clock > int64((v.ahead-time.Hour).Seconds()), "%s in place of %s%s", day(other.Clock), day(plain.Clock), network)
	tell("listing", v.listed(plain.Names, other.Names), "folders are listed in the order %s", v.order)
	tell("processes", other.PID >= v.first, "their numbers begin at %d", v.first)
	tell("machine", other.Release != plain.Release, "another release and version of the kernel (%s), boot and processor", other.Release)
	tell("addresses", other.Address != plain.Address, "where programs lie in memory is random")
	if v.cores > 0 {
		tell("processors", other.Processors != plain.Processors, "%d in place of %d", other.Processors, plain.Processors)
	} else {
		p.proof.Unvaried = append(p.proof.Unvaried, report.Condition{Name: "processors", What: "this machine has one"})
	}
	p.proof.Varied = append(p.proof.Varied, report.Condition{Name: "timing", What: "calls are held back at random, for up to 2 ms"})
	p.proof.Unvaried = append(p.proof.Unvaried, report.Condition{Name: "processor", What: "its model and its counters, and the times of files that a command makes, are the machine's"})
	return nil
}

// listed reports whether names come in the order of a round, and not as they do elsewhere.
func (v *varied) listed(plain, names []string) bool {
	if v.order == conditions.Reversed {
		return slices.IsSortedFunc(names, func(a, b string) int { return strings.Compare(b, a) })
	}
	return !slices.Equal(plain, names)
}

// clues are what is known of a command's two runs.
func (r *round) clues(d *engine.Done) causes.Clues {
	c := causes.Clues{Names: [2][]string{machineNames(), {r.varied.machine}}}
	if d.Run != nil {
		took := time.Duration(d.Run.Millis) * time.Millisecond
		c.Clocks[0] = causes.Span{From: d.Run.Made.Add(-took - time.Minute), Until: d.Run.Made}
		ahead := r.varied.clock(d.Network())
		c.Clocks[1] = causes.Span{From: r.varied.began.Add(ahead), Until: time.Now().Add(ahead)}
	}
	return c
}
