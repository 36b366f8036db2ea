// Package check holds what a recipe demands of an image against what the image holds.
//
// It is pure: an image's settings, layers and what was found in them go in, and a verdict with its reason comes out. It
// reads no layer, runs no command and asks no registry; that is done by whoever makes the Subject.
package check

import (
	"fmt"
	"slices"
	"strings"

	"github.com/dustin/go-humanize"
	v1 "github.com/opencontainers/image-spec/specs-go/v1"

	"imbricat/internal/content/census"
	"imbricat/internal/content/tree"
	"imbricat/internal/ground/ignore"
	"imbricat/internal/spec/recipe"
)

// Outcomes of a check.
const (
	Holds  = "holds"
	Fails  = "fails"
	Unable = "unable" // this machine cannot tell
)

// Subject is an image for one platform. Sizes are in bytes.
type Subject struct {
	Config  v1.ImageConfig
	UID     int            // of the user that it runs as
	Packed  int64          // layers as they are stored
	Layers  [][]tree.Entry // the lowest first
	Secrets []string       // paths of files, in any layer, that look like secrets
}

// Verdict is what became of a check. What names the check, Detail what was found.
type Verdict struct{ What, Outcome, Detail string }

// Known reports whether a check can be decided by Judge alone.
func Known(do recipe.Checked) bool {
	switch do.(type) {
	case *recipe.TryCheck, *recipe.BaseCheck, *recipe.StageCheck:
		return false
	}
	return true
}

// Judge decides a check that Known is true of.
func Judge(do recipe.Checked, s *Subject) Verdict {
	switch do := do.(type) {
	case *recipe.SizeCheck:
		return size(do, s)
	case *recipe.UserCheck:
		return user(do, s)
	case *recipe.SecretsCheck:
		return secrets(do, s)
	case *recipe.WasteCheck:
		return waste(do, s)
	case *recipe.ForbidCheck:
		return forbid(do, s)
	case *recipe.NeedCheck:
		return need(do, s)
	}
	return Verdict{Outcome: Unable, Detail: "it is not known here"}
}

func verdict(holds bool, what, detail string) Verdict {
	v := Verdict{what, Fails, detail}
	if holds {
		v.Outcome = Holds
	}
	return v
}

func bytes(n int64) string { return humanize.Bytes(uint64(n)) }

func size(do *recipe.SizeCheck, s *Subject) Verdict {
	var what, found []string
	holds := true
	if do.Packed > 0 {
		what, found = append(what, "at most "+bytes(do.Packed)+" packed"), append(found, bytes(s.Packed)+" packed")
		holds = s.Packed <= do.Packed
	}
	if do.Unpacked > 0 {
		var all int64
		for _, l := range s.Layers {
			all += sum(l)
		}
		what, found = append(what, "at most "+bytes(do.Unpacked)+" unpacked"), append(found, bytes(all)+" unpacked")
		holds = holds && all <= do.Unpacked
	}
	return verdict(holds, "size "+strings.Join(what, ", "), strings.Join(found, ", "))
}

func sum(entries []tree.Entry) (n int64) {
	for i := range entries {
		n += entries[i].Size
	}
	return n
}

func user(do *recipe.UserCheck, s *Subject) Verdict {
	name, _, _ := strings.Cut(s.Config.User, ":")
	is := fmt.Sprintf("it runs as %q, whose number is %d", name, s.UID)
	if name == "" {
		is = "it names no user, so it runs as root"
	}
	holds := true
	for _, not := range do.Not {
		if not == name || not == fmt.Sprint(s.UID) || not == "root" && s.UID == 0 {
			holds = false
		}
	}
	return verdict(holds, "user not "+strings.Join(do.Not, ", "), is)
}

// mostNamed bounds how many paths a verdict names.
const mostNamed = 5

func named(paths []string, none, some string) string {
	if len(paths) == 0 {
		return none
	}
	more := ""
	if len(paths) > mostNamed {
		more = fmt.Sprintf(" and %d more", len(paths)-mostNamed)
		paths = paths[:mostNamed]
	}
	return some + strings.Join(paths, ", ") + more
}

func secrets(do *recipe.SecretsCheck, s *Subject) Verdict {
	except := ignore.New(do.LeaveOut...)
	var found []string
	for _, p := range s.Secrets {
		if !except.MatchAll(p, false) && !slices.Contains(found, "/"+p) {
			found = append(found, "/"+p)
		}
	}
	return verdict(len(found) == 0, "no file that looks like a secret", named(found, "none was found in any layer", "found "))
}

func waste(do *recipe.WasteCheck, s *Subject) Verdict {
	var lost, all int64
	var paths []string
	for _, h := range census.Waste(s.Layers) {
		lost += h.Size
		paths = append(paths, fmt.Sprintf("%s (%s)", h.Path, bytes(h.Size)))
	}
	for _, l := range s.Layers {
		all += sum(l)
	}
	limit, what := do.Bytes, "waste at most "+bytes(do.Bytes)
	if do.Share {
		limit, what = all*int64(do.Percent)/100, fmt.Sprintf("waste at most %d%%", do.Percent)
	}
	return verdict(lost <= limit, what, named(paths, "no layer holds anything that another hides",
		fmt.Sprintf("%s of %s are hidden by layers above: ", bytes(lost), bytes(all))))
}

func forbid(do *recipe.ForbidCheck, s *Subject) Verdict {
	patterns := ignore.New(do.Paths...)
	var found []string
	for _, one := range tree.Squash(s.Layers) {
		if one.Kind == tree.Whiteout || one.Kind == tree.Opaque {
			continue
		}
		if patterns.Match(one.Path, one.Kind == tree.Folder) {
			found = append(found, "/"+one.Path)
		}
	}
	return verdict(len(found) == 0, "nothing at "+strings.Join(do.Paths, ", "), named(found, "nothing is there", "there are "))
}

func need(do *recipe.NeedCheck, s *Subject) Verdict {
	all := tree.Squash(s.Layers)
	var missing []string
	for _, pattern := range do.Paths {
		one := ignore.New(pattern)
		if !slices.ContainsFunc(all, func(e tree.Squashed) bool {
			return e.Kind != tree.Whiteout && e.Kind != tree.Opaque && one.Match(e.Path, e.Kind == tree.Folder)
		}) {
			missing = append(missing, pattern)
		}
	}
	return verdict(len(missing) == 0, "something at "+strings.Join(do.Paths, ", "), named(missing, "all is there", "nothing is at "))
}
