package page

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	v1 "github.com/opencontainers/image-spec/specs-go/v1"

	"imbricat/internal/content/weight"
	"imbricat/internal/ground/digest"
	"imbricat/internal/output/inspect"
	"imbricat/internal/output/report"
)

// How much of each list a page has: an image of 100,000 files must stay one that a browser shows at once.
const (
	mostFolders  = 250
	mostBoxes    = 600
	mostPackages = 180
	mostWastes   = 60
	mostKinds    = 40
	mostLayers   = 150
	mostTags     = 40
)

// The size of the map of folders, in the units of its picture.
const (
	mapWidth  = 1140
	mapHeight = 520
)

// list is the largest of something, with how many are left out.
type list[T any] struct {
	List []T
	More int
}

// upTo is the first of a list; nil for an empty one.
func upTo[T any](all []T, most int) *list[T] {
	if len(all) == 0 {
		return nil
	}
	return &list[T]{all[:min(most, len(all))], max(0, len(all)-most)}
}

type share struct {
	weight.Share
	Width float64 // percent of the whole
}

// shares are the largest of what the whole is made of.
func shares(all []weight.Share, whole int64, most int) *list[share] {
	var out []share
	for _, s := range all {
		out = append(out, share{s, percent(float64(s.Packed), float64(whole))})
	}
	if out == nil {
		return &list[share]{}
	}
	return upTo(out, most)
}

type imagePage struct {
	About
	*weight.Image
	Title, Name, Platform, Base string
	Others                      []string
	Created                     *time.Time
	Digest                      digest.Digest
	Layers                      []tile // the topmost first
	Map                         []box
	MapWidth, MapHeight         int
	Folders, Kinds              *list[share]
	Wastes                      *list[weight.Waste]
	Packages                    *list[weight.PackageShare]
	Settings                    []setting
	Platforms                   []platformRow
	Tags                        *list[tagRow] // the newest first
}

type tagRow struct {
	report.Tag
	Own   bool // it stands on the image
	Width float64
}

type tile struct {
	weight.LayerShare
	Below bool // it is of the base
	Width float64
}

type box struct {
	report.MapBox
	Label *label
}

type label struct {
	Text string
	X, Y float64
}

type setting struct {
	Name   string
	Values []string
}

type platformRow struct {
	Platform string
	Digest   digest.Digest
	Layers   int
	Packed   int64
	Width    float64
}

// Image writes the page of an image: where its bytes are for one platform, and what its documents say of all. Tags are those of its
// repository, oldest names first; none where that is not asked.
func Image(about About, weighed *report.Weighed, shown *inspect.Image, tags []report.Tag) ([]byte, error) {
	p := imagePage{About: about, Image: weighed.Image, Title: weighed.Reference + ", " + weighed.Platform, Name: weighed.Reference, Platform: weighed.Platform, Created: weighed.Created, Digest: weighed.Digest,
		MapWidth: mapWidth, MapHeight: mapHeight, Wastes: upTo(weighed.Waste, mostWastes), Packages: upTo(weighed.Packages, mostPackages)}
	p.Others = slices.DeleteFunc(slices.Clone(weighed.Platforms), func(other string) bool { return other == weighed.Platform })
	if b := weighed.Base; b != nil {
		p.Base = fmt.Sprintf("A machine that has the base %s fetches %s of it.", b.Reference, report.Size(b.Fetched))
	} else if weighed.BaseName != "" {
		p.Base = "It is based on " + weighed.BaseName + "."
	}
	largest := int64(0)
	for _, l := range weighed.Layers {
		largest = max(largest, l.Packed)
	}
	for i, l := range slices.Backward(weighed.Layers) {
		if len(weighed.Layers)-i > mostLayers {
			break
		}
		p.Layers = append(p.Layers, tile{l, l.Shared, percent(float64(l.Packed), float64(largest))})
	}
	p.Folders, p.Kinds = shares(weighed.Folders, weighed.Total.Packed, mostFolders), shares(weighed.Kinds, weighed.Total.Packed, mostKinds)
	for _, b := range report.MapOfFolders(weighed.Folders, mapWidth, mapHeight, mostBoxes) {
		one := box{MapBox: b}
		if room := int((b.W - 8) / 6.2); b.H >= 18 && room >= 4 {
			text := fmt.Sprintf("%s  %s", b.Short, report.Size(b.Bytes))
			if letters := []rune(text); len(letters) > room {
				text = string(letters[:room-1]) + "…"
			}
			one.Label = &label{text, b.X + 4, b.Y + 13}
		}
		p.Map = append(p.Map, one)
	}
	most := int64(0)
	for _, one := range shown.Platforms {
		most = max(most, one.Packed)
		if one.Platform == weighed.Platform {
			p.Settings = settings(&one.Settings)
		}
	}
	for _, one := range shown.Platforms {
		p.Platforms = append(p.Platforms, platformRow{one.Platform, one.Digest, len(one.Layers), one.Packed, percent(float64(one.Packed), float64(most))})
	}
	p.Tags = tagRows(tags, shown.Digest)
	return write("image", p)
}

// tagRows are the tags of a repository, the newest first: by when they were pushed, where the registry tells, else made.
func tagRows(tags []report.Tag, own digest.Digest) *list[tagRow] {
	most := int64(0)
	for _, t := range tags {
		most = max(most, t.Packed)
	}
	var rows []tagRow
	for _, t := range slices.Backward(tags) {
		rows = append(rows, tagRow{t, t.Digest == own, percent(float64(t.Packed), float64(most))})
	}
	when := func(t tagRow) time.Time {
		if t.Pushed.IsZero() {
			return t.Created
		}
		return t.Pushed
	}
	slices.SortStableFunc(rows, func(a, b tagRow) int { return when(b).Compare(when(a)) })
	return upTo(rows, mostTags)
}

// settings are what an image says of how it runs, without what it leaves out.
func settings(c *v1.ImageConfig) (all []setting) {
	add := func(name string, values ...string) {
		if values = slices.DeleteFunc(values, func(v string) bool { return v == "" }); len(values) > 0 {
			all = append(all, setting{name, values})
		}
	}
	add("entrypoint", strings.Join(c.Entrypoint, " "))
	add("command", strings.Join(c.Cmd, " "))
	add("user", c.User)
	add("working directory", c.WorkingDir)
	add("environment", slices.Clone(c.Env)...)
	add("ports", slices.Sorted(maps.Keys(c.ExposedPorts))...)
	add("volumes", slices.Sorted(maps.Keys(c.Volumes))...)
	add("stop signal", c.StopSignal)
	var labels []string
	for _, name := range slices.Sorted(maps.Keys(c.Labels)) {
		labels = append(labels, name+"="+c.Labels[name])
	}
	add("labels", labels...)
	return all
}
