package engine

import (
	"context"
	"fmt"
	"math/rand/v2"
	"runtime"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"imbricat/internal/ground/event"
)

// program is a recipe of random stages and images that take of each other, in which some steps fail.
type program struct {
	text   string
	needs  map[string][]string // by unit
	fails  map[string]bool
	images []string
}

func randomProgram(r *rand.Rand) *program {
	p := &program{needs: map[string][]string{}, fails: map[string]bool{}}
	var stages, images strings.Builder
	var names []string
	for n := range 2 + r.IntN(8) {
		name, base := fmt.Sprintf("u%d", n), "none"
		image := r.IntN(2) == 0 || n == 0
		steps := []string{fmt.Sprintf("write: {to: /%s/own, text: '%d'}", name, n)}
		for range r.IntN(3) {
			if len(names) > 0 {
				other := names[r.IntN(len(names))]
				p.needs[name] = append(p.needs[name], other)
				steps = append(steps, fmt.Sprintf("take: {from: %s, paths: /%s/own, to: /%s/of-%s}", other, other, name, other))
			}
		}
		if len(names) > 0 && r.IntN(3) == 0 {
			other := names[r.IntN(len(names))]
			p.needs[name] = append(p.needs[name], other)
			if base = "{stage: " + other + "}"; slices.Contains(p.images, other) {
				base = "{image: " + other + "}"
			}
		}
		if r.IntN(6) == 0 {
			p.fails[name] = true
			steps = append(steps, fmt.Sprintf("write: {to: /%s/own/in-a-file, text: x}", name))
		}
		out := &stages
		if image {
			out, p.images = &images, append(p.images, name)
		}
		fmt.Fprintf(out, "  %s:\n    base: %s\n", name, base)
		if image {
			fmt.Fprintln(out, "    platforms: [linux/amd64]")
		}
		fmt.Fprintf(out, "    steps: [{%s}]\n", strings.Join(steps, "}, {"))
		names = append(names, name)
	}
	p.text = "imbricat: 1\nimages:\n" + images.String()
	if stages.Len() > 0 {
		p.text += "stages:\n" + stages.String()
	}
	return p
}

// depends reports whether a unit fails, or one that it needs.
func (p *program) depends(name string) bool {
	return p.fails[name] || slices.ContainsFunc(p.needs[name], p.depends)
}

// TestRandomPrograms: whatever fails and whenever a build is ended, an image that needs nothing of what failed is made where the
// build keeps going, with the digest that it has by itself; none is made of what failed; steps stand in the recipe's order; and
// nothing goes on afterwards.
func TestRandomPrograms(t *testing.T) {
	before := runtime.NumGoroutine()
	sites := []*site{newSite(t), newSite(t)}
	for seed := range uint64(150) {
		r := rand.New(rand.NewPCG(seed, 3))
		p := randomProgram(r)
		made := map[string]string{}
		for i, keepGoing := range []bool{true, r.IntN(2) == 0} {
			s := sites[i]
			ctx, cancel := context.WithCancel(t.Context())
			ends := i == 1 && r.IntN(2) == 0
			s.keepGoing, s.ctx, s.watch = keepGoing, ctx, nil
			var told atomic.Int32
			if after := r.Int32N(20); ends {
				s.watch = func(event.Event) {
					if told.Add(1) > after {
						cancel()
					}
				}
			}
			result, err := s.build(p.text)
			require.NotNil(t, result, "seed %d: %v\n%s", seed, err, p.text)
			if !ends {
				require.Equal(t, slices.ContainsFunc(p.images, p.depends), err != nil, "seed %d: %v\n%s", seed, err, p.text)
			}
			for _, img := range result.Images {
				require.False(t, p.depends(img.Name), "seed %d: %s\n%s", seed, img.Name, p.text)
				if known := made[img.Name]; known != "" {
					require.Equal(t, known, string(img.Descriptor.Digest), "seed %d", seed)
				}
				made[img.Name] = string(img.Descriptor.Digest)
			}
			for _, name := range p.images {
				if keepGoing && !ends && !p.depends(name) {
					require.NotEmpty(t, made[name], "seed %d: %s\n%s", seed, name, p.text)
				}
			}
			var places []string
			for _, u := range s.plan(p.text).Units {
				for i := range u.Steps {
					places = append(places, fmt.Sprintf("%s:%d", u.ID.Name, i+1))
				}
			}
			for _, step := range result.Steps {
				at := slices.Index(places, step.Place)
				require.GreaterOrEqual(t, at, 0, "seed %d: %s stands before another", seed, step.Place)
				places = places[at+1:]
			}
			cancel()
		}
	}
	for wait := 0; runtime.NumGoroutine() > before && wait < 500; wait++ {
		time.Sleep(10 * time.Millisecond)
	}
	require.LessOrEqual(t, runtime.NumGoroutine(), before)
}
