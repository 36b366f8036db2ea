// Package demo holds the Tideline project, a made-up observatory of tides, as files that ship inside the program.
//
// It only writes them into a folder; it knows nothing of recipes and images.
package demo

import (
	"embed"
	"encoding/csv"
	"fmt"
	"io/fs"
	"math"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"github.com/go-git/go-git/v5"
	"github.com/go-git/go-git/v5/plumbing"
	"github.com/go-git/go-git/v5/plumbing/object"
)

//go:embed tideline
var files embed.FS

const constituents = "tideline/common/astro/constituents.csv"

// Write puts the project into a folder, with a year of tide tables that are computed from its constituents.
func Write(dir string) error {
	err := fs.WalkDir(files, "tideline", func(name string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		content, err := files.ReadFile(name)
		if err != nil {
			return err
		}
		below := strings.TrimPrefix(name, "tideline/")
		mode := os.FileMode(0o644)
		if strings.Contains(below, "/bin/") || below == "programs/build" {
			mode = 0o755
		}
		if below == "gitignore" { // under its own name it would act on this repository
			below = ".gitignore"
		}
		return writeFile(filepath.Join(dir, filepath.FromSlash(below)), content, mode)
	})
	if err != nil {
		return err
	}
	return writeTables(filepath.Join(dir, "almanac", "tables"))
}

func writeFile(path string, content []byte, mode os.FileMode) error {
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return err
	}
	return os.WriteFile(path, content, mode)
}

// constituent is one harmonic of the tide: degrees an hour, metres, degrees.
type constituent struct{ speed, amplitude, phase float64 }

func readConstituents() ([]constituent, error) {
	f, err := files.Open(constituents)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	rows, err := csv.NewReader(f).ReadAll()
	if err != nil {
		return nil, err
	}
	var list []constituent
	for _, row := range rows[1:] {
		var numbers [3]float64
		for i, text := range row[1:] {
			if numbers[i], err = strconv.ParseFloat(text, 64); err != nil {
				return nil, err
			}
		}
		list = append(list, constituent{numbers[0], numbers[1], numbers[2]})
	}
	return list, nil
}

// writeTables sums the harmonics for every hour of a year, a file for each month.
func writeTables(dir string) error {
	list, err := readConstituents()
	if err != nil {
		return err
	}
	start := time.Date(2027, 1, 1, 0, 0, 0, 0, time.UTC)
	for month := range 12 {
		var out strings.Builder
		first := start.AddDate(0, month, 0)
		for t := first; t.Month() == first.Month(); t = t.Add(time.Hour) {
			height := 2.6
			for _, c := range list {
				height += c.amplitude * math.Cos((c.speed*t.Sub(start).Hours()-c.phase)*math.Pi/180)
			}
			fmt.Fprintf(&out, "%s %.2f\n", t.Format("2006-01-02 15:04"), height)
		}
		if err := writeFile(filepath.Join(dir, first.Format("2006-01")+".txt"), []byte(out.String()), 0o644); err != nil {
			return err
		}
	}
	return nil
}

// Commit records the project's state in version control under a tag, with a fixed author and the given time. The first
// call makes the repository, on the branch trunk.
func Commit(dir, message, tag string, when time.Time) (string, error) {
	repo, err := git.PlainOpen(dir)
	if err == git.ErrRepositoryNotExists {
		repo, err = git.PlainInitWithOptions(dir, &git.PlainInitOptions{
			InitOptions: git.InitOptions{DefaultBranch: plumbing.NewBranchReferenceName("trunk")},
		})
	}
	if err != nil {
		return "", err
	}
	tree, err := repo.Worktree()
	if err != nil {
		return "", err
	}
	if err := tree.AddWithOptions(&git.AddOptions{All: true}); err != nil {
		return "", err
	}
	author := &object.Signature{Name: "Tideline", Email: "observatory@tideline.example", When: when}
	commit, err := tree.Commit(message, &git.CommitOptions{Author: author, Committer: author})
	if err != nil {
		return "", err
	}
	if _, err := repo.CreateTag(tag, commit, nil); err != nil {
		return "", err
	}
	return commit.String(), nil
}
