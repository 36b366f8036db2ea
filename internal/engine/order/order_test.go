package order

import (
	"crypto/sha256"
	"fmt"
	"math"
	"math/bits"
	"math/rand/v2"
	"runtime"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"imbricat/internal/spec/division"
)

func TestFixedPointFollowsRealNumbers(t *testing.T) {
	for h := int64(0); h < 13*One; h += One / 97 {
		require.InDelta(t, math.Exp(-float64(h)/float64(One)), float64(survival(h))/float64(One), 1e-4)
	}
	for q := int64(0); q < One-One/100; q += One / 89 {
		require.InDelta(t, float64(One-q), float64(survival(hazard(q))), 8)
	}
	for _, n := range []int64{0, 1, 2, 9, 1000, 1 << 40} {
		require.InDelta(t, math.Sqrt(float64(n)), float64(root(n))/float64(One), 0.01*math.Sqrt(float64(n)))
	}
	require.Equal(t, most, times(1<<60, 5*One), "it saturates")
	w := newWeights(130)
	even, low := Versions{}, Versions{}
	sum := 0.0
	for v := range 130 {
		if v%2 == 0 {
			even = even.With(v)
		} else if v < 60 {
			low = low.With(v)
		}
		if v%2 == 0 || v < 60 {
			sum += math.Pow(0.95, float64(129-v))
		}
	}
	require.InDelta(t, sum, float64(w.either(even, low))/float64(One), 1e-3)
	require.Equal(t, 95, even.Or(low).Len())
}

// random returns layers and what must lie below what; layer numbers are one allowed order.
func random(r *rand.Rand, n int, density float64) ([]Weight, []Versions) {
	layers, below := make([]Weight, n), make([]Versions, n)
	for i := range layers {
		layers[i] = Weight{Size: 1 + r.Int64N(1<<r.IntN(30)), Chance: r.Int64N(One)}
		if r.IntN(4) == 0 {
			layers[i].Chance = []Share{0, One / 1000, One}[r.IntN(3)]
		}
		for j := range i {
			if r.Float64() < density {
				below[i] = below[i].With(j)
			}
		}
	}
	return layers, below
}

func allowed(order []int, below []Versions) bool {
	placed := Versions{}
	for _, l := range order {
		if !within(below[l], placed) {
			return false
		}
		placed = placed.With(l)
	}
	return true
}

func permutations(n int, visit func([]int)) {
	order := make([]int, n)
	for i := range order {
		order[i] = i
	}
	var next func(k int)
	next = func(k int) {
		if k == n {
			visit(order)
			return
		}
		for i := k; i < n; i++ {
			order[k], order[i] = order[i], order[k]
			next(k + 1)
			order[k], order[i] = order[i], order[k]
		}
	}
	next(0)
}

func TestStackIsTheBestOrder(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	for range 150 {
		layers, below := random(r, 1+r.IntN(7), []float64{0, 0.2, 0.5}[r.IntN(3)])
		least := most
		permutations(len(layers), func(order []int) {
			if allowed(order, below) {
				least = min(least, Expected(layers, order))
			}
		})
		order := Stack(layers, below)
		require.True(t, allowed(order, below))
		require.Equal(t, least, Expected(layers, order), "%v %v", layers, below)
	}
}

// TestNearlyTheBestOrderOfManyLayers holds the way of more than 18 layers to the exact one.
func TestNearlyTheBestOrderOfManyLayers(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 4))
	sum, worst := 0.0, 0.0
	const cases = 300
	for range cases {
		layers, below := random(r, 8+r.IntN(9), []float64{0, 0.1, 0.3}[r.IntN(3)])
		s := &stacking{layers: layers, below: below, quiet: One}
		rest := make([]int, len(layers))
		for i := range rest {
			rest[i] = i
		}
		near := s.improve(s.blocks(rest, nil))
		require.True(t, allowed(near, below))
		over := float64(Expected(layers, near))/max(1, float64(Expected(layers, s.exact(rest)))) - 1
		sum, worst = sum+over, max(worst, over)
	}
	t.Logf("%.4f %% over the best order on average, %.3f %% at worst", 100*sum/cases, 100*worst)
	require.Less(t, sum/cases, 0.005)
	require.Less(t, worst, 0.02)
	layers, below := random(r, 120, 0.05)
	require.True(t, allowed(Stack(layers, below), below), "and 120 layers are no trouble")
}

func TestRestackKeepsWhatIsWorthKeeping(t *testing.T) {
	huge, small := Weight{1 << 30, One / 20}, Weight{1 << 10, One / 100}
	require.Equal(t, []int{0, 1}, Restack([]Weight{huge, small}, nil, []int{0}, 4), "a layer that is there stays lowest")
	require.Equal(t, []int{1, 0}, Restack([]Weight{{1 << 20, One}, {1 << 20, 0}}, nil, []int{0, 1}, 4),
		"but one that changes every time does not, once that costs more than laying the others again")
	require.Equal(t, []int{1, 0}, Restack([]Weight{huge, small}, []Versions{Versions{}.With(1), nil}, []int{0}, 4), "and never what must lie higher")
}

// bell gives every partition of n things, as the group of each.
func bell(n int, visit func(groups []int, count int)) {
	groups := make([]int, n)
	var next func(i, count int)
	next = func(i, count int) {
		if i == n {
			visit(groups, count)
			return
		}
		for g := range count + 1 {
			groups[i] = g
			next(i+1, max(count, g+1))
		}
	}
	next(0, 0)
}

// TestDivideIsNearlyTheBestDivision holds the agglomeration to all divisions of small cases.
func TestDivideIsNearlyTheBestDivision(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 6))
	logs, worst := 0.0, 1.0
	const cases = 60
	for range cases {
		const versions = 12
		var items []Item
		for i := range 7 {
			item := Item{Path: fmt.Sprintf("f%d/x%d", i%3, i), Size: 1 + r.Int64N(1<<(8+r.IntN(16)))}
			for v := range versions {
				if r.IntN(12) < i {
					item.Changes = item.Changes.With(v)
				}
			}
			items = append(items, item)
		}
		slices.SortFunc(items, func(a, b Item) int { return strings.Compare(a.Path, b.Path) })
		o := Options{Versions: versions, Most: 2 + r.IntN(3)}
		parts := Divide(items, func(int) string { return "" }, nil, o)
		require.LessOrEqual(t, len(parts), o.Most)
		least := most
		bell(len(items), func(groups []int, count int) {
			if count > o.Most {
				return
			}
			lists := make([][]int, count)
			for i, g := range groups {
				lists[g] = append(lists[g], i)
			}
			least = min(least, Cost(Assess(items, lists, o), o))
		})
		over := float64(Cost(parts, o)) / float64(least)
		logs, worst = logs+math.Log(over), max(worst, over)
	}
	t.Logf("J is %.4f times the least on average, %.3f times at worst", math.Exp(logs/cases), worst)
	require.Less(t, math.Exp(logs/cases), 1.01)
	require.Less(t, worst, 1.1)
}

// project is a made-up history: packages that are released now and then, and a program that changes every time.
func project(r *rand.Rand, packages, files, versions int) []Version {
	releases := make([]int, packages)
	var history []Version
	for v := range versions {
		var at Version
		for p := range packages {
			if v > 0 && r.IntN(2+p*11%packages) == 0 {
				releases[p]++
			}
			for f := range files {
				at.Items = append(at.Items, Item{Path: fmt.Sprintf("srv/node_modules/p%02d/%03d", p, f), Size: 4000 + int64(100*f)})
				at.Same = append(at.Same, fmt.Sprint(releases[p]))
			}
		}
		at.Items, at.Same = append(at.Items, Item{Path: "srv/tide", Size: 9000}), append(at.Same, fmt.Sprint(v))
		history = append(history, at)
	}
	return history
}

func pushed(all []Bytes) (sum int64) {
	for _, b := range all[1:] {
		sum += b.Pushed
	}
	return sum
}

func TestPoliciesBeatStaticCutOnProjects(t *testing.T) {
	history := project(rand.New(rand.NewPCG(7, 8)), 24, 20, 30)
	Learn(history)
	o := Options{Most: 10}
	single, static := pushed(Replay(history, Single(history))), pushed(Replay(history, Static(history, o.Most)))
	lock, follow, hindsight := pushed(Replay(history, Locked(history, 10, o))), pushed(Replay(history, Following(history, o))), pushed(Replay(history, Hindsight(history, o.Most)))
	t.Logf("one layer %d, static %d, lock %d, follow %d, hindsight %d", single, static, lock, follow, hindsight)
	require.Less(t, static, single)
	require.Less(t, lock, static)
	require.Less(t, float64(follow), 0.85*float64(static))
	require.LessOrEqual(t, hindsight, follow)
	for _, b := range Replay(history, Following(history, o)) {
		require.LessOrEqual(t, b.Layers, o.Most)
	}
}

func TestDivideLeavesUnchangedLayersAlone(t *testing.T) {
	items := []Item{{Path: "a", Size: 1 << 20}, {Path: "b", Size: 1 << 20}, {Path: "c", Size: 100}, {Path: "new", Size: 100}}
	same := func(i int) string { return []string{"1", "1", "2", "1"}[i] }
	before := []Before{{"a": "1"}, {"b": "1", "gone": "1"}, {"c": "1"}}
	parts := Divide(items, same, before, Options{Most: 8})
	require.Equal(t, Part{Items: []int{0}, Size: 1 << 20, Chance: parts[0].Chance, Old: 0}, parts[0])
	for _, p := range parts[1:] {
		require.Equal(t, -1, p.Old)
	}
	require.Len(t, Divide(items, same, before, Options{Most: 1}), 1, "unless there is no room")
}

func TestHintsGoBeforeMeasures(t *testing.T) {
	var always Versions
	for v := range 10 {
		always = always.With(v)
	}
	items := []Item{{Path: "big", Size: 1 << 24}, {Path: "lively", Size: 1 << 22, Hint: Lively}, {Path: "steady", Size: 1 << 22, Hint: Steady, Changes: always}}
	parts := Divide(items, func(int) string { return "" }, nil, Options{Versions: 10, Most: 8})
	for _, p := range parts {
		if slices.Contains(p.Items, 1) {
			require.Equal(t, []int{1}, p.Items)
			require.Greater(t, p.Chance, One*9/10)
		} else {
			require.Less(t, p.Chance, One/10)
		}
	}
}

func TestCutKeepsPackagesWhole(t *testing.T) {
	history := project(rand.New(rand.NewPCG(9, 9)), 12, 30, 1)
	items := history[0].Items
	parts := Cut(items, 5, 0)
	require.Len(t, parts, 5)
	where := map[string]int{}
	seen := 0
	for n, p := range parts {
		for _, i := range p {
			seen++
			if end := packageEnd(items[i].Path); end > 0 {
				if other, known := where[items[i].Path[:end]]; known {
					require.Equal(t, other, n, items[i].Path)
				}
				where[items[i].Path[:end]] = n
			}
		}
	}
	require.Equal(t, len(items), seen)
	require.Len(t, Cut(items, 5, 1<<40), 1, "small parts are not worth it")
	require.Empty(t, Cut(nil, 5, 0))
}

// TestRulesGiveTheirDivisionBack: few lines, and every item whose part matters is where it was.
func TestRulesGiveTheirDivisionBack(t *testing.T) {
	r := rand.New(rand.NewPCG(11, 12))
	for range 100 {
		var items []Item
		for i := range 1 + r.IntN(60) {
			items = append(items, Item{Path: fmt.Sprintf("d%d/e%d/f%03d", r.IntN(3), r.IntN(3), i), Size: slack + r.Int64N(9000)})
		}
		slices.SortFunc(items, func(a, b Item) int { return strings.Compare(a.Path, b.Path) })
		count := min(len(items), 1+r.IntN(4))
		parts := make([]Part, count)
		for i := range items {
			n := i
			if i >= count {
				n = r.IntN(count)
			}
			parts[n].Items = append(parts[n].Items, i)
		}
		rules := RulesOf(items, parts)
		lines := 0
		for n, p := range parts {
			lines += len(rules.Parts[n])
			for _, i := range p.Items {
				require.Equal(t, n, rules.Part(items[i].Path))
			}
		}
		require.LessOrEqual(t, lines, len(items)+13, "never many more lines than files")
		again, err := division.New(rules.Parts)
		require.NoError(t, err)
		require.Equal(t, rules, again)
	}
}

// TestDivideOfLargeProjects: 50,000 files with 500 versions in bounded memory. How long it takes is for BenchmarkDivide.
func TestDivideOfLargeProjects(t *testing.T) {
	items := large()
	var was, is runtime.MemStats
	runtime.ReadMemStats(&was)
	began := time.Now()
	parts := Divide(items, func(int) string { return "" }, nil, Options{Versions: 500, Most: 32})
	RulesOf(items, parts)
	runtime.ReadMemStats(&is)
	t.Logf("%v, %d MB allocated", time.Since(began), (is.TotalAlloc-was.TotalAlloc)>>20)
	require.LessOrEqual(t, len(parts), 32)
	require.Less(t, is.TotalAlloc-was.TotalAlloc, uint64(300<<20))
}

// TestDivisionIsTheSameEverywhere: a division and its stack, written down once. Whatever changes them changes the layers of
// everybody who follows, so it must be meant.
func TestDivisionIsTheSameEverywhere(t *testing.T) {
	history := project(rand.New(rand.NewPCG(17, 18)), 20, 12, 30)
	Learn(history)
	sum := sha256.New()
	for _, strategy := range []Strategy{Following(history, Options{Most: 9}), Locked(history, 5, Options{Most: 9})} {
		for v := range history {
			fmt.Fprintln(sum, strategy(v))
		}
	}
	require.Equal(t, "5484cd0df0848c25d01d3bc879ba7461c62ca0ad0ebd9cf4637b5569f2bd8994", fmt.Sprintf("%x", sum.Sum(nil)))
}

func large() (items []Item) {
	r := rand.New(rand.NewPCG(13, 14))
	for p := range 500 {
		var events Versions
		for v := range 500 {
			if r.IntN(20+p) < 8 {
				events = events.With(v)
			}
		}
		for f := range 100 {
			item := Item{Path: fmt.Sprintf("srv/node_modules/p%03d/%03d", p, f), Size: 512 + r.Int64N(20000)}
			for v := range 500 {
				if events.Has(v) && r.IntN(10) == 0 {
					item.Changes = item.Changes.With(v)
				}
			}
			items = append(items, item)
		}
	}
	return items
}

func BenchmarkDivide(b *testing.B) {
	items := large()
	b.ReportAllocs()
	for b.Loop() {
		RulesOf(items, Divide(items, func(int) string { return "" }, nil, Options{Versions: 500, Most: 32}))
	}
}

// FuzzDivide: every item is in one part, whatever the history.
func FuzzDivide(f *testing.F) {
	f.Add([]byte("some/paths\x00here"), uint8(3), uint8(4))
	f.Fuzz(func(t *testing.T, text []byte, k, versions uint8) {
		paths := strings.FieldsFunc(string(text), func(r rune) bool { return r < ' ' })
		slices.Sort(paths)
		paths = slices.Compact(paths)
		var items []Item
		for i, p := range paths {
			item := Item{Path: strings.Trim(p, "/"), Size: int64(len(p)) << (i % 40), Hint: Hint(i%7%3 - 1)}
			if i%7 > 2 {
				item.Hint = Unhinted
			}
			for v := range int(versions) {
				if bits.RotateLeft8(uint8(i*31+v), v)&3 == 0 {
					item.Changes = item.Changes.With(v)
				}
			}
			items = append(items, item)
		}
		slices.SortFunc(items, func(a, b Item) int { return strings.Compare(a.Path, b.Path) })
		items = slices.CompactFunc(items, func(a, b Item) bool { return a.Path == b.Path })
		o := Options{Versions: int(versions), Most: int(k) + 1}
		for _, parts := range [][]Part{Divide(items, func(i int) string { return "" }, []Before{{"a": ""}}, o), cold(items, o)} {
			var all []int
			for _, p := range parts {
				require.NotEmpty(t, p.Items)
				require.True(t, p.Chance >= 0 && p.Chance <= One)
				all = append(all, p.Items...)
			}
			slices.Sort(all)
			require.Equal(t, len(items), len(slices.Compact(all)))
			require.LessOrEqual(t, len(parts), o.Most)
			if len(items) > 0 {
				RulesOf(items, parts)
			}
		}
	})
}

// TestRefreshKeepsADivisionUntilAnotherIsWorthMovingTo: the same items and history give the same division again, a little
// history moves nothing, and one that was right for another past is left.
func TestRefreshKeepsADivisionUntilAnotherIsWorthMovingTo(t *testing.T) {
	history := project(rand.New(rand.NewPCG(15, 16)), 16, 10, 40)
	Learn(history)
	now := history[len(history)-1]
	o := Options{Versions: len(history) - 1, Most: 12, Least: 1 << 10}
	first := Refresh(now.Items, nil, o)
	require.False(t, first.Kept)
	rules := first.Rules(now.Items)
	require.LessOrEqual(t, len(rules.Parts), o.Most)
	again := Refresh(now.Items, Ruled(rules, now.Items), o)
	require.True(t, again.Kept)
	require.Zero(t, again.Moved)
	one := make([]int, len(now.Items))
	for i := range one {
		one[i] = i
	}
	better := Refresh(now.Items, [][]int{one}, o)
	require.False(t, better.Kept)
	require.Less(t, better.Version, better.Before)
	tight := o
	tight.Most = 2
	require.False(t, Refresh(now.Items, Ruled(rules, now.Items), tight).Kept, "there is no room for it")
}

// TestBackTestFallsBackToFolders: a past that tells nothing of what comes is not followed.
func TestBackTestFallsBackToFolders(t *testing.T) {
	var items []Item
	for f := range 8 {
		for n := range 12 {
			item := Item{Path: fmt.Sprintf("%d/%02d", f, n), Size: 100_000}
			for v := range 30 {
				// First one file of each folder changes at a time, then folders change as a whole.
				if v < 20 && n == v%12 || v >= 20 && f == v%2 {
					item.Changes = item.Changes.With(v)
				}
			}
			items = append(items, item)
		}
	}
	o := Options{Versions: 30, Most: 8}
	require.Greater(t, BackTest(items, o), 1.0)
	r := Refresh(items, nil, o)
	require.True(t, r.Static)
	require.Len(t, r.Parts, 8)
	require.Zero(t, BackTest(items, Options{Versions: 5, Most: 8}), "a short history tells nothing")
}

func TestKeepGivesUpWhatItMust(t *testing.T) {
	items := []Item{{Path: "a", Size: 1000}, {Path: "b", Size: 1000}, {Path: "c", Size: 1000}, {Path: "d", Size: 1000}}
	now := []string{"1", "1", "1", "2"}
	same := func(i int) string { return now[i] }
	never := func(int) bool { return false }
	held := func(paths ...string) Shelf {
		shelf := Shelf{}
		for _, p := range paths {
			shelf[p] = Held{"1", 1000}
		}
		return shelf
	}
	kept := func(parts []Part) (old []int) {
		for _, p := range parts {
			old = append(old, p.Old)
		}
		return old
	}
	before := []Shelf{held("a", "b"), held("c", "d")}
	require.Equal(t, []int{0, 1, -1}, kept(Keep(items, same, before, never, Options{Most: 4, Dead: 20})), "the old d stays dead in the second")
	require.Equal(t, []int{0, -1}, kept(Keep(items, same, before, never, Options{Most: 2, Dead: 20}))[:2], "unless there is no room")
	require.Equal(t, 0, kept(Keep(items, same, before, never, Options{Most: 4, Dead: 10}))[0])
	require.NotContains(t, kept(Keep(items, same, before, never, Options{Most: 4, Dead: 10})), 1, "or it is too much")
	require.NotContains(t, kept(Keep(items, same, before, func(l int) bool { return l == 0 }, Options{Most: 4, Dead: 20})), 0)
	gone := []Shelf{held("a", "b", "secret"), held("c", "d")}
	require.NotContains(t, kept(Keep(items, same, gone, never, Options{Most: 4, Dead: 50})), 0, "what was removed is never left")
}

// TestPairs: the pair that gains most is found after any joins, whether gains are kept or asked for again.
func TestPairs(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 3))
	for range 300 {
		n := 2 + r.IntN(12)
		values, asked := make([]int64, n), 0
		for i := range values {
			values[i] = int64(r.IntN(50))
		}
		gain := func(i, j int) int64 { asked++; return (values[i]*7+values[j]*13)%31 - 9 }
		kept, plain := newPairs(n, gain), newPairs(n, gain)
		plain.gains = nil
		there := make([]bool, n)
		for i := range there {
			there[i] = true
		}
		for kept.left > 1 {
			into, from, most := kept.best()
			wantInto, wantFrom, want := plain.best()
			require.Equal(t, []int64{int64(wantInto), int64(wantFrom), want}, []int64{int64(into), int64(from), most})
			for i := range n {
				for j := range i {
					if there[i] && there[j] {
						require.LessOrEqual(t, (values[i]*7+values[j]*13)%31-9, most)
					}
				}
			}
			values[into], there[from] = int64(r.IntN(50)), false
			asked = 0
			kept.joined(into, from)
			require.LessOrEqual(t, asked, kept.left, "each thing that is left is asked once")
			plain.joined(into, from)
		}
	}
}
