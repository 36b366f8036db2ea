package report

import (
	"fmt"
	"strconv"
	"strings"
	"time"
)

// Trend is how builds, images and steps changed from build to build, the latest last.
type Trend struct {
	Builds []TrendBuild `json:"builds"`
	Images []TrendOf    `json:"images"` // packed bytes, where the image became another one
	Steps  []TrendOf    `json:"steps"`  // seconds, where the step ran; of those that were named
}

// TrendBuild is how long a build took.
type TrendBuild struct {
	Number  int64     `json:"build"`
	Started time.Time `json:"started"`
	Outcome string    `json:"outcome"`
	Ran     int       `json:"ran"`
	Seconds float64   `json:"seconds"`
	Spared  float64   `json:"spared"`
}

// TrendOf are the values of one thing.
type TrendOf struct {
	Name   string       `json:"name"`
	Values []TrendValue `json:"values"`
}

// TrendValue is a value at a build.
type TrendValue struct {
	Number int64   `json:"build"`
	Value  float64 `json:"value"`
}

// TrendOfBuilds works out a trend. Wanted tells which steps count.
func TrendOfBuilds(builds []PastBuild, wanted func(s *PastStep) bool) *Trend {
	t := &Trend{Builds: []TrendBuild{}, Images: []TrendOf{}, Steps: []TrendOf{}}
	digests := map[string]string{}
	add := func(list *[]TrendOf, name string, v TrendValue) {
		for i := range *list {
			if one := &(*list)[i]; one.Name == name {
				one.Values = append(one.Values, v)
				return
			}
		}
		*list = append(*list, TrendOf{name, []TrendValue{v}})
	}
	for i := range builds {
		b := &builds[i]
		t.Builds = append(t.Builds, TrendBuild{b.Number, b.Started, b.Outcome, b.Ran, b.Seconds, b.Spared})
		for _, image := range b.Images {
			if digests[image.Name] != image.Digest {
				digests[image.Name] = image.Digest
				add(&t.Images, image.Name, TrendValue{b.Number, float64(image.Packed)})
			}
		}
		for n := range b.Steps {
			if s := &b.Steps[n]; s.Outcome == "ran" && wanted(s) {
				add(&t.Steps, s.Place+" "+s.Platform, TrendValue{b.Number, s.Seconds})
			}
		}
	}
	return t
}

// trendWidth is how many columns the bar of a trend has.
const trendWidth = 30

// TrendText draws a bar for each value; those of one chart have one scale.
func TrendText(p Paint, t *Trend, now time.Time) string {
	w := &strings.Builder{}
	most := 0.0
	for _, b := range t.Builds {
		most = max(most, b.Seconds)
	}
	var rows [][]string
	for _, b := range t.Builds {
		spared := ""
		if b.Spared >= 0.5 {
			spared = Took(seconds(b.Spared)) + " spared"
		}
		rows = append(rows, []string{p.Bold(strconv.FormatInt(b.Number, 10)), Ago(b.Started, now), outcome(p, b.Outcome), p.barOf(int64(b.Seconds*1000), int64(most*1000), trendWidth), Took(seconds(b.Seconds)),
			fmt.Sprintf("%d ran", b.Ran), p.Muted(spared)})
	}
	Table(w, p, []string{"build", "begun", "outcome", "took", "", "", ""}, rows)
	for _, one := range t.Images {
		writeTrend(w, p, one, "packed", func(v float64) string { return Size(int64(v)) })
	}
	for _, one := range t.Steps {
		writeTrend(w, p, one, "took", func(v float64) string { return Took(seconds(v)) })
	}
	return w.String()
}

// writeTrend draws one thing, with how much each value differs from the one before.
func writeTrend(w *strings.Builder, p Paint, t TrendOf, what string, words func(v float64) string) {
	most := 0.0
	for _, v := range t.Values {
		most = max(most, v.Value)
	}
	var rows [][]string
	for i, v := range t.Values {
		change := ""
		if i > 0 {
			if d := v.Value - t.Values[i-1].Value; d > 0 {
				change = "+" + words(d)
			} else if d < 0 {
				change = "−" + words(-d)
			}
		}
		rows = append(rows, []string{p.Bold(strconv.FormatInt(v.Number, 10)), p.barOf(int64(v.Value*1000), int64(most*1000), trendWidth), words(v.Value), p.Muted(change)})
	}
	fmt.Fprintf(w, "\n%s\n", p.Bold(t.Name))
	Table(w, p, []string{"build", what, "", ""}, rows)
}
