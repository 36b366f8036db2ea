package report

import (
	"fmt"
	"maps"
	"os"
	"reflect"
	"slices"
	"sort"
	"strings"
	"time"

	"charm.land/lipgloss/v2/tree"
	v1 "github.com/opencontainers/image-spec/specs-go/v1"

	"imbricat/internal/ground/digest"
	"imbricat/internal/output/inspect"
	"imbricat/internal/output/receipt"
)

// Build is the result of a build.
type Build struct {
	Images []BuiltImage   `json:"images"`
	Stages []BuiltStage   `json:"stages,omitempty"` // that were asked for by themselves
	Steps  []receipt.Step `json:"steps"`
	Ran    int            `json:"ran"`
	Reused int            `json:"reused"`
	// Warnings are in the order of their texts.
	Warnings []receipt.Warning `json:"warnings"`
	// Made counts the layers of steps that ran, MadeBytes are their sizes.
	Made      int             `json:"made"`
	MadeBytes int64           `json:"madeBytes"`
	Seconds   float64         `json:"seconds"`
	Spared    float64         `json:"spared"` // seconds that reused steps took when they were done
	Shared    *receipt.Shared `json:"shared,omitempty"`
	Number    int64           `json:"build,omitempty"` // in the logbook
}

// BuiltStage is a stage for a platform.
type BuiltStage struct {
	Name     string `json:"name"`
	Platform string `json:"platform"`
}

// BuiltImage is an image over its platforms.
type BuiltImage struct {
	Name      string          `json:"name"`
	Digest    digest.Digest   `json:"digest"`
	MediaType string          `json:"mediaType"`
	Size      int64           `json:"size"` // of the index itself, in bytes
	Created   time.Time       `json:"created"`
	Platforms []BuiltPlatform `json:"platforms"`
}

// BuiltPlatform is an image for one platform. Sizes are in bytes.
type BuiltPlatform struct {
	Platform string        `json:"platform"`
	Digest   digest.Digest `json:"digest"`
	Layers   int           `json:"layers"`
	Packed   int64         `json:"packed"`
}

// BuildText returns one row for each image or stage and platform.
func BuildText(p Paint, b *Build) string {
	w := &strings.Builder{}
	for _, s := range b.Stages {
		fmt.Fprintf(w, "%s %s  stage\n", p.Bold(s.Name), s.Platform)
	}
	if len(b.Images) == 0 {
		return w.String()
	}
	var rows [][]string
	for _, i := range b.Images {
		rows = append(rows, []string{p.Bold(i.Name), "index over " + Count(len(i.Platforms), "platform"), "", "", p.Digest(i.Digest)})
		for _, one := range i.Platforms {
			rows = append(rows, []string{"", one.Platform, Count(one.Layers, "layer"), Size(one.Packed), p.Muted(p.Digest(one.Digest))})
		}
	}
	Table(w, p, []string{"image", "platform", "layers", "packed", "digest"}, rows)
	return w.String()
}

// Summary is the closing line of a build; failed is how many images and stages were asked for and are not built.
func (b *Build) Summary(took time.Duration, failed int) string {
	what := Count(len(b.Images), "image")
	if stages := Count(len(b.Stages), "stage"); len(b.Images) == 0 && len(b.Stages) > 0 {
		what = stages
	} else if len(b.Stages) > 0 {
		what += " and " + stages
	}
	if failed > 0 {
		what += fmt.Sprintf(" of %d", len(b.Images)+len(b.Stages)+failed)
	}
	text := fmt.Sprintf("built %s: %d of %s ran, %d reused, in %s",
		what, b.Ran, Count(b.Ran+b.Reused, "step"), b.Reused, Took(took))
	if b.Spared >= 0.5 {
		text += ", " + Took(seconds(b.Spared)) + " spared"
	}
	if b.Made > 0 {
		text += "; " + Count(b.Made, "layer") + " of " + Size(b.MadeBytes) + " made"
	}
	if len(b.Warnings) > 0 {
		text += "; " + Count(len(b.Warnings), "warning")
	}
	return text
}

// Next tells what whoever has built something may want to do now; empty where nothing was done.
func (b *Build) Next(p Paint, pushes bool) string {
	if b.Ran == 0 || len(b.Images) == 0 {
		return ""
	}
	next := "imbricat try " + b.Images[0].Name + "  runs it"
	if pushes {
		next = "imbricat push  sends it to its destinations"
	}
	return p.Muted("next: " + next + " · imbricat why  tells why steps ran")
}

// ImageText draws an image or an index as a tree.
func ImageText(p Paint, i *inspect.Image, now time.Time) string {
	w := &strings.Builder{}
	kind := "image"
	if i.Index {
		kind = "index over " + Count(len(i.Platforms), "platform") + ", " + Size(i.Packed) + " packed"
	}
	root := tree.Root(p.Bold(i.Reference) + "  " + kind + "\n" + p.Muted(string(i.Digest)))
	if len(i.Annotations) > 0 {
		root.Child(annotationTree(p, i.Annotations))
	}
	if len(i.Referrers) > 0 {
		t := tree.Root("attached")
		for _, r := range i.Referrers {
			t.Child(strings.TrimSpace(r.Type + "  " + p.Digest(r.Digest) + "  " + r.Of + "  " + p.Muted(r.Created)))
		}
		root.Child(t)
	}
	shared := sameSettings(i.Platforms)
	for n := range i.Platforms {
		root.Child(platformTree(p, &i.Platforms[n], i.Annotations, shared, now))
	}
	if shared {
		if lines := settingsLines(&i.Platforms[0].Settings); len(lines) > 0 {
			root.Child(settingsTree(p, "settings of every platform", lines))
		}
	}
	for line := range strings.SplitSeq(strings.ReplaceAll(root.String(), "\u00a0", " "), "\n") {
		fmt.Fprintln(w, strings.TrimRight(line, " "))
	}
	return w.String()
}

func annotationTree(p Paint, all map[string]string) *tree.Tree {
	t := tree.Root("annotations")
	for _, key := range sortedKeys(all) {
		t.Child(p.Muted(key) + " " + all[key])
	}
	return t
}

func sortedKeys[V any](m map[string]V) []string {
	keys := make([]string, 0, len(m))
	for key := range m {
		keys = append(keys, key)
	}
	sort.Strings(keys)
	return keys
}

func platformTree(p Paint, one *inspect.Platform, shared map[string]string, settings bool, now time.Time) *tree.Tree {
	head := p.Accent(one.Platform) + "  " + Size(one.Packed) + " packed, " + Size(one.Unpacked) + " unpacked"
	if one.Unpacked < 0 {
		head = p.Accent(one.Platform) + "  " + Size(one.Packed) + " packed"
	}
	t := tree.Root(head + "\n" + p.Muted(string(one.Digest)))
	if one.Created != nil {
		t.Child("created: " + When(*one.Created, now))
	}
	if one.Author != "" {
		t.Child("author " + cut(oneLine(one.Author), 90))
	}
	layers := tree.Root(Count(len(one.Layers), "layer") + ", the lowest first")
	for _, l := range one.Layers {
		size := fmt.Sprintf("%8s", Size(l.Packed))
		if l.Unpacked >= 0 {
			size += fmt.Sprintf(" → %8s", Size(l.Unpacked))
		}
		line := p.Muted(digest.Short(l.Digest)) + "  " + size + "  " + cut(oneLine(l.CreatedBy), 90)
		for _, key := range slices.Sorted(maps.Keys(l.Annotations)) {
			line += "\n" + p.Muted(key) + " " + cut(oneLine(l.Annotations[key]), 90)
		}
		layers.Child(line)
	}
	t.Child(layers)
	if lines := settingsLines(&one.Settings); len(lines) > 0 && !settings {
		t.Child(settingsTree(p, "settings", lines))
	}
	own := map[string]string{}
	for key, value := range one.Annotations {
		if shared[key] != value {
			own[key] = value
		}
	}
	if len(own) > 0 {
		t.Child(annotationTree(p, own))
	}
	return t
}

// sameSettings reports whether several platforms have the same settings, which are then told once.
func sameSettings(list []inspect.Platform) bool {
	for i := range list {
		if !reflect.DeepEqual(list[i].Settings, list[0].Settings) {
			return false
		}
	}
	return len(list) > 1
}

func settingsTree(p Paint, title string, lines [][2]string) *tree.Tree {
	t := tree.Root(title)
	for _, line := range lines {
		t.Child(p.Muted(line[0]) + " " + line[1])
	}
	return t
}

func oneLine(text string) string { return strings.Join(strings.Fields(text), " ") }

func cut(text string, n int) string {
	if runes := []rune(text); len(runes) > n {
		return string(runes[:n-1]) + "…"
	}
	return text
}

// settingsLines are the settings that are set, by the recipe's names for them.
func settingsLines(c *v1.ImageConfig) [][2]string {
	var lines [][2]string
	add := func(name, value string) {
		if value != "" {
			lines = append(lines, [2]string{name, oneLine(value)})
		}
	}
	list := func(words []string) string {
		if words == nil {
			return ""
		}
		return fmt.Sprintf("%q", words)
	}
	add("entrypoint", list(c.Entrypoint))
	add("command", list(c.Cmd))
	for _, e := range c.Env {
		add("env", e)
	}
	add("user", c.User)
	add("working-dir", c.WorkingDir)
	add("ports", strings.Join(sortedKeys(c.ExposedPorts), ", "))
	add("volumes", strings.Join(sortedKeys(c.Volumes), ", "))
	for _, key := range sortedKeys(c.Labels) {
		add("label", key+"="+c.Labels[key])
	}
	add("stop-signal", c.StopSignal)
	return lines
}

// Plan is what a build would do.
type Plan struct {
	Images    []PlannedImage `json:"images"`
	Units     []PlannedUnit  `json:"units"`
	Files     int            `json:"files"`   // taken in, each counted once
	Bytes     int64          `json:"bytes"`   // of these
	Left      int            `json:"leftOut"` // files left out by patterns
	LeftBytes int64          `json:"leftOutBytes"`
	LeftPaths []LeftOut      `json:"leftOutPaths,omitempty"` // where they were asked for
	Seconds   float64        `json:"expectedSeconds"`        // along the critical path, as earlier builds took
	Stacks    []Stack        `json:"stacks"`                 // of the images, by platform
}

// LeftOut is a file or a folder that patterns leave out.
type LeftOut struct {
	Path  string `json:"path"`
	Files int    `json:"files"`
	Bytes int64  `json:"bytes"`
}

// PlannedImage is an image with where it is published.
type PlannedImage struct {
	Name         string               `json:"name"`
	Platforms    []string             `json:"platforms"`
	Destinations []PlannedDestination `json:"destinations"`
}

// PlannedDestination is a repository with the tags that would be written.
type PlannedDestination struct {
	Name       string   `json:"name"`
	Repository string   `json:"repository"`
	Platform   string   `json:"platform,omitempty"` // whose image the tags are to stand on; empty: the index
	Tags       []string `json:"tags"`
	Held       []string `json:"held"` // their conditions do not hold
	// Because tells of each tag that is held back why; Prefixes are those of the tags that move with versions, and stay where the
	// repository has a higher one.
	Because  map[string]string `json:"because,omitempty"`
	Prefixes []string          `json:"prefixes,omitempty"`
}

// PlannedUnit is a stage or an image for one platform.
type PlannedUnit struct {
	Name     string        `json:"name"`
	Platform string        `json:"platform"`
	Kind     string        `json:"kind"`             // image or stage
	Checks   []string      `json:"checks,omitempty"` // images whose checks alone need the stage
	Base     string        `json:"base"`
	Digest   digest.Digest `json:"baseDigest,omitempty"`
	Needs    []string      `json:"needs"` // units that it waits for
	Steps    []PlannedStep `json:"steps"`
}

// PlannedStep is a step with what it would take in and whether its layer is there.
type PlannedStep struct {
	Place    string   `json:"place"` // gauge:3
	Step     string   `json:"step"`
	Files    int      `json:"files"`
	Bytes    int64    `json:"bytes"`
	Outcome  string   `json:"outcome"` // reused, runs, skipped, or depends
	Reason   string   `json:"reason"`
	Details  []string `json:"details"`         // every reason, where there are several
	Seconds  float64  `json:"expectedSeconds"` // what it took when it was done last; 0 where it is reused or not known
	Critical bool     `json:"critical"`        // the build cannot be faster than the chain of these
}

// forecast is what would become of a step, with a sign that tells it without colour.
func forecast(p Paint, outcome string) string {
	switch outcome {
	case "reused":
		return p.Muted("○ reused  ")
	case "skipped":
		return p.Muted("· no layer")
	case "depends":
		return p.Muted("? depends ")
	}
	return p.Accent("● runs    ")
}

// GraphText tells the units in the order in which they can begin, with what each waits for, and the critical path.
func GraphText(p Paint, plan *Plan) string {
	w := &strings.Builder{}
	var path []string
	for n, u := range plan.Units {
		if n > 0 {
			fmt.Fprintln(w)
		}
		needs := ""
		if len(u.Needs) > 0 {
			needs = "  waits for " + strings.Join(u.Needs, ", ")
		}
		fmt.Fprintf(w, "  %s %s%s\n", p.Bold(u.Name), u.Platform, p.Muted(needs))
		for i, s := range u.Steps {
			mark, took := "│", ""
			if s.Critical {
				mark, path = p.Accent("┃"), append(path, s.Place)
			}
			if s.Seconds > 0 {
				took = p.Muted("  " + Took(seconds(s.Seconds)))
			}
			fmt.Fprintf(w, "  %s %2d %s  %s%s\n", mark, i+1, forecast(p, s.Outcome), s.Step, took)
		}
	}
	if len(path) == 0 {
		fmt.Fprintln(w, "\nno times are known for what would run")
		return w.String()
	}
	fmt.Fprintf(w, "\ncritical path %s  %s\n", p.Accent("┃"), strings.Join(path, " → ")+", "+Took(seconds(plan.Seconds)))
	return w.String()
}

func seconds(s float64) time.Duration { return time.Duration(s * float64(time.Second)) }

// PlanText tells the steps of every unit and where the images go.
func PlanText(p Paint, plan *Plan, every bool) string {
	w := &strings.Builder{}
	for n, u := range plan.Units {
		if n > 0 {
			fmt.Fprintln(w)
		}
		base := u.Base
		if u.Digest != "" {
			base += " " + p.Muted(digest.Short(u.Digest))
		}
		fmt.Fprintf(w, "%s %s  %s from %s", p.Bold(u.Name), u.Platform, u.Kind, base)
		if len(u.Checks) > 0 {
			fmt.Fprintf(w, ", for checks of %s alone: ship builds it", strings.Join(u.Checks, ", "))
		}
		fmt.Fprintln(w)
		for i, s := range u.Steps {
			outcome := forecast(p, s.Outcome)
			line := fmt.Sprintf("  %2d %s  %s", i+1, outcome, s.Step)
			if s.Files > 0 {
				line += p.Muted(fmt.Sprintf("  %s, %s", Count(s.Files, "file"), Size(s.Bytes)))
			}
			if (s.Outcome == "depends" || s.Outcome == "runs" && s.Files == 0) && s.Reason != "" {
				line += p.Muted("  (" + s.Reason + ")")
			}
			fmt.Fprintln(w, line)
			if every && len(s.Details) > 1 {
				for _, detail := range s.Details {
					fmt.Fprintln(w, p.Muted("                   "+detail))
				}
			}
		}
	}
	w.WriteString(StacksText(p, plan.Stacks))
	fmt.Fprintf(w, "\ntaken in: %s, %s; left out: %s, %s\n", Count(plan.Files, "file"), Size(plan.Bytes), Count(plan.Left, "file"), Size(plan.LeftBytes))
	for _, one := range plan.LeftPaths {
		fmt.Fprintln(w, p.Muted(fmt.Sprintf("  left out: %s  %s, %s", one.Path, Count(one.Files, "file"), Size(one.Bytes))))
	}
	for _, i := range plan.Images {
		for _, d := range i.Destinations {
			what := strings.TrimSpace(p.Bold(i.Name) + " " + d.Platform)
			line := fmt.Sprintf("%s → %s  tags: %s", what, d.Repository, strings.Join(d.Tags, ", "))
			if len(d.Tags) == 0 {
				line = fmt.Sprintf("%s → %s  no tag holds", what, d.Repository)
			}
			if len(d.Held) > 0 {
				line += p.Muted("  (held back: " + strings.Join(d.Held, ", ") + ")")
			}
			fmt.Fprintln(w, line)
			for _, tag := range slices.Sorted(maps.Keys(d.Because)) {
				fmt.Fprintln(w, p.Muted("    "+tag+" is held back: "+d.Because[tag]))
			}
			if len(d.Prefixes) > 0 {
				fmt.Fprintln(w, p.Muted("    "+strings.Join(d.Prefixes, ", ")+" stay where they are if the repository has a higher version; push asks it"))
			}
		}
	}
	return w.String()
}

// Push is what was sent where.
type Push struct {
	Pushed []Pushed `json:"pushed"`
}

// Pushed is one image at one destination. Blobs are counted; sizes are in bytes.
type Pushed struct {
	Image        string                   `json:"image"`
	Platform     string                   `json:"platform,omitempty"` // whose image it is; empty: the index
	Repository   string                   `json:"destination"`
	Tags         []string                 `json:"tags"`
	Digest       digest.Digest            `json:"digest"`
	Sent         int                      `json:"sent"`
	SentBytes    int64                    `json:"sentBytes"`
	Mounted      int                      `json:"mounted"` // taken over from another repository of the registry
	MountedBytes int64                    `json:"mountedBytes"`
	Skipped      int                      `json:"skipped"`
	SkippedBytes int64                    `json:"skippedBytes"`
	Platforms    map[string]digest.Digest `json:"platforms,omitempty"`
	Held         []receipt.Held           `json:"held,omitempty"` // tags that were not written
	Seconds      float64                  `json:"seconds"`
	Fetched      bool                     `json:"-"` // it was brought into the store
}

// PushText tells what was sent and what was there already.
func PushText(p Paint, d *Push) string {
	w := &strings.Builder{}
	for _, one := range d.Pushed {
		names := ""
		if len(one.Tags) > 0 {
			names = "  " + strings.Join(one.Tags, ", ")
		}
		fmt.Fprintf(w, "%s → %s%s\n", strings.TrimSpace(p.Bold(one.Image)+" "+one.Platform), one.Repository, p.Accent(names))
		if len(one.Platforms) == 0 {
			fmt.Fprintf(w, "  %s\n", p.Digest(one.Digest))
		} else {
			fmt.Fprintf(w, "  %-12s  %s\n", "index", p.Bold(p.Digest(one.Digest)))
		}
		for _, platform := range slices.Sorted(maps.Keys(one.Platforms)) {
			fmt.Fprintf(w, "  %-12s  %s\n", platform, p.Digest(one.Platforms[platform]))
		}
		mounted := ""
		if one.Mounted > 0 {
			mounted = fmt.Sprintf("%s, %s mounted from other repositories there; ", Count(one.Mounted, "blob"), Size(one.MountedBytes))
		}
		act := "sent"
		if one.Fetched {
			act = "fetched"
		}
		fmt.Fprintf(w, "  %s %s, %s; %s%s, %s were there already\n", act,
			Count(one.Sent, "blob"), Size(one.SentBytes), mounted, Count(one.Skipped, "blob"), Size(one.SkippedBytes))
		for _, h := range one.Held {
			fmt.Fprintf(w, "  %s\n", p.Muted("held back: "+h.Tag+", "+h.Why))
		}
	}
	return w.String()
}

// Store is the list of images in the store.
type Store struct {
	Images []StoredImage `json:"images"`
}

// StoredImage is an image in the store. Packed counts the layers of all platforms as they are stored, each once, in bytes.
type StoredImage struct {
	Name      string        `json:"name"`
	Project   string        `json:"project,omitempty"` // whose it is: the path of a recipe
	Digest    digest.Digest `json:"digest"`
	Platforms []string      `json:"platforms"`
	Packed    int64         `json:"packed"`
	Created   time.Time     `json:"created"`
	Since     time.Time     `json:"since,omitzero"` // when the store got it under this name
	Problem   string        `json:"problem,omitempty"`
}

// folderOf names a project for people: the folder of its recipe, or the recipe where that has a name of its own.
func folderOf(project string) string {
	if home, err := os.UserHomeDir(); err == nil && home != "/" && strings.HasPrefix(project, home+"/") {
		project = "~" + strings.TrimPrefix(project, home)
	}
	return strings.TrimSuffix(project, "/imbricat.yaml")
}

// ending is the end of a path that is too long for a table.
func ending(path string, most int) string {
	r := []rune(path)
	if len(r) <= most {
		return path
	}
	return "…" + string(r[len(r)-most+1:])
}

// StoreText returns one row for each image.
func StoreText(p Paint, d *Store, now time.Time, empty string) string {
	w := &strings.Builder{}
	if len(d.Images) == 0 {
		fmt.Fprintln(w, empty)
		return w.String()
	}
	var rows [][]string
	for _, i := range d.Images {
		name, created, project := p.Bold(i.Name), Ago(i.Created, now), folderOf(i.Project)
		if !p.Whole {
			project = ending(project, 20)
		}
		if i.Name == "" {
			name = p.Muted("(no name)")
		}
		if i.Problem != "" {
			created = p.Wrong(i.Problem)
		}
		rows = append(rows, []string{name, p.Digest(i.Digest), strings.Join(i.Platforms, ", "), Size(i.Packed), created, p.Muted(project)})
	}
	Table(w, p, []string{"image", "digest", "platforms", "packed", "created", "project"}, rows)
	return w.String()
}
