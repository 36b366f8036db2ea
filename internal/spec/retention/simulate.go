package retention

import (
	"context"
	"fmt"
	"slices"
	"time"

	"imbricat/internal/ground/digest"
)

// Push is an image that was pushed.
type Push struct {
	Tags  []string
	Time  time.Time
	Bytes int64 // of blobs that were new then
}

// Point is what a repository would hold at a time. Bytes are sums of what was new with each image.
type Point struct {
	Time   time.Time
	Pushed int // until then, those that are there now included
	Images int // that the rule keeps
	Tags   int
	Bytes  int64
	// AllBytes are what it would hold where nothing was deleted.
	AllBytes int64
}

// mostPushes bounds a simulation.
const mostPushes = 20_000

// day is how often a rule is applied.
const day = 24 * time.Hour

// Simulate tells what a repository would hold if it was pushed to as until now, and the rule was applied each day. The pushes so far are
// repeated with the same gaps, each time with tags of their own, and branches of their own; tags that move go to the newest that has
// them. There is a point for every so many days, and one at the end. The error says why nothing can be foreseen.
func Simulate(ctx context.Context, pushes []Push, r Rule, now time.Time, days, every int) ([]Point, error) {
	pushes = slices.DeleteFunc(slices.Clone(pushes), func(p Push) bool { return p.Time.IsZero() })
	slices.SortStableFunc(pushes, func(a, b Push) int { return a.Time.Compare(b.Time) })
	if len(pushes) < 2 {
		return nil, fmt.Errorf("a simulation repeats what was pushed until now, which takes pushes at two times; %d are known with theirs", len(pushes))
	}
	span := pushes[len(pushes)-1].Time.Sub(pushes[0].Time)
	if span < day {
		return nil, fmt.Errorf("a simulation repeats what was pushed until now: the %d pushes that are known lie within %s, which tells nothing of a longer time", len(pushes), span)
	}
	if n := float64(days) * float64(day) / float64(span) * float64(len(pushes)); n > mostPushes {
		return nil, fmt.Errorf("a simulation of %d days would take %.0f pushes, more than %d: give fewer days", days, n, mostPushes)
	}
	s := &simulation{rule: r, times: map[string]int{}, bytes: map[digest.Digest]int64{}}
	for _, p := range pushes {
		for _, tag := range p.Tags {
			s.times[tag]++
		}
	}
	for _, p := range pushes {
		s.push(p.Tags, p.Time, p.Bytes)
	}
	period := span + span/time.Duration(len(pushes)-1)
	var points []Point
	next := 0 // push of the coming repetition
	for d := 1; d <= days; d++ {
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		end := now.Add(time.Duration(d) * day)
		for {
			cycle, n := next/len(pushes), next%len(pushes)
			at := now.Add(time.Duration(cycle)*period + pushes[n].Time.Sub(pushes[0].Time) + span/time.Duration(len(pushes)-1))
			if at.After(end) {
				break
			}
			var names []string
			for _, tag := range pushes[n].Tags {
				if !s.moves(tag) {
					tag += cycleMark + fmt.Sprint(cycle)
				}
				names = append(names, tag)
			}
			s.push(names, at, pushes[n].Bytes)
			next++
		}
		s.apply(end)
		if d%every == 0 || d == days {
			points = append(points, s.point(end))
		}
	}
	return points, nil
}

// simulation is a repository that does not exist.
type simulation struct {
	rule   Rule
	times  map[string]int // that a tag was pushed
	tags   []Tag
	bytes  map[digest.Digest]int64 // of those that are there
	pushed int
	all    int64
}

// moves reports whether a tag moves: the rule says so, or several images were pushed with it.
func (s *simulation) moves(tag string) bool {
	return s.times[tag] > 1 || slices.Contains(s.rule.Moving, tag)
}

func (s *simulation) push(tags []string, at time.Time, bytes int64) {
	d := digest.Digest(fmt.Sprint(s.pushed))
	s.pushed++
	s.all += bytes
	s.bytes[d] = bytes
	s.tags = slices.DeleteFunc(s.tags, func(t Tag) bool { return slices.Contains(tags, t.Name) })
	for _, tag := range tags {
		s.tags = append(s.tags, Tag{Name: tag, Digest: d, Time: at})
	}
}

// apply deletes what the rule does not keep, and images that no tag stands on.
func (s *simulation) apply(now time.Time) {
	kept := map[digest.Digest]bool{}
	var tags []Tag
	for _, v := range Decide(s.tags, s.rule, now) {
		if v.Keep {
			kept[v.Digest] = true
			tags = append(tags, v.Tag)
		}
	}
	s.tags = tags
	for d := range s.bytes {
		if !kept[d] {
			delete(s.bytes, d)
		}
	}
}

func (s *simulation) point(at time.Time) Point {
	p := Point{Time: at, Pushed: s.pushed, Images: len(s.bytes), Tags: len(s.tags), AllBytes: s.all}
	for _, n := range s.bytes {
		p.Bytes += n
	}
	return p
}
