// Command mutants plants small faults in the heart of the program, one at a time, and tells which of them the tests of the
// package do not find. Each is a line of mutants.txt that was chosen by hand: a guard left out, a comparison that always
// holds, a bound that is none. It works on a copy of the checkout, never on the checkout itself.
//
//	go run ./scripts/mutants [-list] [NAME…]
package main

import (
	"bytes"
	_ "embed"
	"flag"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"
)

//go:embed mutants.txt
var table string

// mutant is one fault: in a file, old is replaced by new once, and the tests of a package that match a pattern are to fail.
type mutant struct {
	name, file, test, pattern string
	old, new                  string
}

// parse reads the table: blocks of a name, the file, the package with a pattern of tests, and lines that go (-) and come (+).
func parse(text string) (all []mutant, err error) {
	for block := range strings.SplitSeq(strings.TrimSpace(text), "\n\n") {
		var m mutant
		for line := range strings.Lines(block) {
			line = strings.TrimSuffix(line, "\n")
			word, rest, _ := strings.Cut(line, " ")
			switch word {
			case "#":
			case "mutant":
				m.name = rest
			case "file":
				m.file = rest
			case "test":
				m.test, m.pattern, _ = strings.Cut(rest, " ")
			case "-":
				m.old += rest + "\n"
			case "+":
				m.new += rest + "\n"
			default:
				return nil, fmt.Errorf("%q is not a line of the table", line)
			}
		}
		if m.name == "" {
			continue
		}
		if m.file == "" || m.test == "" || m.old == "" {
			return nil, fmt.Errorf("the mutant %q lacks something", m.name)
		}
		// What stands inside of a line is replaced inside of it.
		m.old, m.new = strings.TrimSuffix(m.old, "\n"), strings.TrimSuffix(m.new, "\n")
		all = append(all, m)
	}
	return all, nil
}

// checkout copies what version control has here into a folder.
func checkout(dir string) error {
	files, err := exec.Command("git", "ls-files", "-z").Output()
	if err != nil {
		return fmt.Errorf("listing files: %w", err)
	}
	for name := range strings.SplitSeq(strings.TrimSuffix(string(files), "\x00"), "\x00") {
		info, err := os.Lstat(name)
		if err != nil || !info.Mode().IsRegular() {
			continue
		}
		text, err := os.ReadFile(name)
		if err == nil {
			err = os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755)
		}
		if err == nil {
			err = os.WriteFile(filepath.Join(dir, name), text, info.Mode())
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// try plants a mutant in the copy and runs its tests.
func (m *mutant) try(dir string) (verdict string, err error) {
	file := filepath.Join(dir, m.file)
	text, err := os.ReadFile(file)
	if err != nil {
		return "", err
	}
	if n := bytes.Count(text, []byte(m.old)); n != 1 {
		return "", fmt.Errorf("what is to be replaced in %s stands there %d times", m.file, n)
	}
	if out, err := m.run(dir); err != nil {
		return "", fmt.Errorf("its tests fail without it:\n%s", out)
	}
	if err := os.WriteFile(file, bytes.Replace(text, []byte(m.old), []byte(m.new), 1), 0o644); err != nil {
		return "", err
	}
	defer func() {
		if back := os.WriteFile(file, text, 0o644); err == nil {
			err = back
		}
	}()
	out, err := m.run(dir)
	switch {
	case err == nil:
		return "survived", nil
	case bytes.Contains(out, []byte("[build failed]")) || bytes.Contains(out, []byte("[setup failed]")):
		return "", fmt.Errorf("it cannot be built:\n%s", out)
	}
	return "found", nil
}

// run runs the tests that are to find it.
func (m *mutant) run(dir string) (out []byte, err error) {
	command := exec.Command("go", "test", "-count", "1", m.test, "-run", m.pattern, "-timeout", "10m")
	command.Dir = dir
	return command.CombinedOutput()
}

func run() (survived int, err error) {
	list := flag.Bool("list", false, "list the mutants, as rows of a table")
	flag.Parse()
	all, err := parse(table)
	if err != nil {
		return 0, err
	}
	dir, err := os.MkdirTemp("", "mutants")
	if err != nil {
		return 0, err
	}
	defer os.RemoveAll(dir)
	if !*list {
		if err := checkout(dir); err != nil {
			return 0, err
		}
	}
	tried := 0
	for i := range all {
		m := &all[i]
		if wanted := flag.Args(); len(wanted) > 0 && !strings.Contains("\x00"+strings.Join(wanted, "\x00")+"\x00", "\x00"+m.name+"\x00") {
			continue
		}
		if *list {
			fmt.Printf("| %s | `%s` | `%s` |\n", m.name, m.file, strings.TrimSpace(strings.TrimPrefix(m.test, "./")+" "+strings.Trim(m.pattern, "^$")))
			continue
		}
		began := time.Now()
		verdict, err := m.try(dir)
		if err != nil {
			return survived, fmt.Errorf("%s: %w", m.name, err)
		}
		if tried++; verdict == "survived" {
			survived++
		}
		fmt.Printf("%-9s %-40s %s (%s)\n", verdict, m.name, m.file, time.Since(began).Round(100*time.Millisecond))
	}
	if !*list {
		fmt.Printf("%d mutants, %d survived\n", tried, survived)
	}
	return survived, nil
}

func main() {
	survived, err := run()
	if err != nil {
		fmt.Fprintln(os.Stderr, "mutants:", err)
		os.Exit(2)
	}
	if survived > 0 {
		os.Exit(1)
	}
}
