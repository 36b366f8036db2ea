package build

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"sync"

	"github.com/bmatcuk/doublestar/v4"

	"imbricat/internal/digest"
	"imbricat/internal/event"
	"imbricat/internal/order"
	"imbricat/internal/plan"
	"imbricat/internal/recipe"
	"imbricat/internal/tree"
)

// What steps lay down is divided into layers by one of three policies; none of them looks at this machine's own past, so
// that every machine decides alike. Rules of the lock, and the layers of the image that was published last, see all steps
// laid together: each path is in one layer, and what a later step replaced or deleted is in none. Without either, each step
// has layers of its own.

const (
	// leastPart is the size in bytes below which a part of a step is not worth a layer where nothing but sizes is known.
	leastPart = 4 << 20
	// leastFollowed is that of a first image that others are to follow: its parts are divided again with what changes.
	leastFollowed = 256 << 10
	// mostParts is into how many parts a step is cut at most where nothing but sizes is known.
	mostParts = 8
)

// Predecessor is the image that was published last, for one platform.
type Predecessor struct {
	Digest  digest.Digest
	Follows digest.Digest  // the image whose division it followed
	Layers  [][]tree.Entry // its own, lowest first
	// Of each of these, for leaving dead copies in them: how it is stored, its diffID, the bytes of its tar, and what made it.
	Stored []StoredLayer
	// Place is where these can be had, HOST/REPOSITORY.
	Place string
	// Past are the own layers of the images before it, the oldest image first.
	Past [][][]tree.Entry
}

// StoredLayer is a layer as it is published.
type StoredLayer struct {
	Descriptor digest.Descriptor
	DiffID     digest.DiffID
	CreatedBy  string
}

// Annotations of images that follow a published one.
const (
	FollowsKey = "dev.imbricat.follows"      // the image whose division was followed
	BelowKey   = "dev.imbricat.layers-below" // how many layers lie below the image's own
)

// VersionOf gives what layers hold together, for comparing versions.
func VersionOf(layers [][]tree.Entry) order.Version {
	l := layTogether(layers, hintsOf(recipe.Stack{}))
	return order.Version{Items: l.items, Same: l.same}
}

// PolicyOf says where a unit's division comes from.
func (o *Options) PolicyOf(u *plan.Unit) recipe.Policy {
	switch {
	case u.Stack.Policy == recipe.Following && o.Predecessor != nil:
		return recipe.Following
	case (u.Stack.Policy == recipe.FromLock || u.Stack.Policy == "") && o.Divisions[u.ID.Name] != nil:
		return recipe.FromLock
	}
	return recipe.Cold
}

// room is how many layers a unit may have above those that it starts from.
func (s *unitState) room(u *plan.Unit) (int, error) {
	below := len(s.floor) + baseLayers(s)
	if below >= recipe.MostLayers {
		return 0, fmt.Errorf("what it starts from has %d layers, and machines that run images take %d", below, recipe.MostLayers)
	}
	return max(1, cmp.Or(u.Stack.Layers, recipe.DefaultLayers)-below), nil
}

// early tells whether layers can be packed as steps end.
func (b *builder) early(u *plan.Unit, s *unitState) bool {
	room, err := s.room(u)
	return err == nil && b.o.PolicyOf(u) == recipe.Cold && len(s.loose)+len(u.Steps) <= room
}

// arrange decides on a unit's layers, lowest first. Every step must be known.
func (b *builder) arrange(ctx context.Context, u *plan.Unit, s *unitState) error {
	room, err := s.room(u)
	if err != nil {
		return err
	}
	var own []*stepTree
	switch b.o.PolicyOf(u) {
	case recipe.FromLock:
		own, err = b.ruled(ctx, u, s, b.o.Divisions[u.ID.Name], room)
	case recipe.Following:
		own, err = b.following(ctx, u, s, room)
	default:
		own, err = b.cold(ctx, u, s, room)
	}
	s.layers, s.arranged = slices.Concat(s.floor, own), err == nil
	return err
}

// hintsOf gives what a person says of paths.
func hintsOf(s recipe.Stack) func(path string) order.Hint {
	return func(path string) order.Hint {
		matches := func(pattern string) bool { return doublestar.MatchUnvalidated(pattern, "/"+path) }
		switch {
		case slices.ContainsFunc(s.Lively, matches):
			return order.Lively
		case slices.ContainsFunc(s.Steady, matches):
			return order.Steady
		}
		return order.Unhinted
	}
}

func hinted(s recipe.Stack) bool { return len(s.Steady)+len(s.Lively) > 0 }

// ruled divides by the rules of the lock, which also say which layer lies on which.
func (b *builder) ruled(ctx context.Context, u *plan.Unit, s *unitState, rules *order.Rules, room int) ([]*stepTree, error) {
	l, err := s.together(ctx, u)
	if err != nil {
		return nil, err
	}
	parts := rules.Ruled(l.items)
	if len(parts) > room {
		b.warning(nil, event.Layers, fmt.Sprintf("the lock divides %s into more layers than there is room for, so neighbours share one: `imbricat lock` divides it anew", u.ID.Name))
		parts = squeeze(l.items, parts, room)
	}
	return b.layersOf(u, l, parts), nil
}

// squeeze lets neighbours share a layer, the smallest first, until there are few enough.
func squeeze(items []order.Item, parts [][]int, most int) [][]int {
	parts = slices.Clone(parts)
	size := func(n int) (sum int64) {
		for _, i := range parts[n] {
			sum += items[i].Size
		}
		return sum
	}
	for len(parts) > most {
		at := 0
		for n := 1; n+1 < len(parts); n++ {
			if size(n)+size(n+1) < size(at)+size(at+1) {
				at = n
			}
		}
		both := slices.Concat(parts[at], parts[at+1])
		slices.Sort(both)
		parts = slices.Replace(parts, at, at+2, both)
	}
	return parts
}

// following divides after the image that was published last.
func (b *builder) following(ctx context.Context, u *plan.Unit, s *unitState, room int) ([]*stepTree, error) {
	l, err := s.together(ctx, u)
	if err != nil || len(l.items) == 0 {
		return nil, err
	}
	last, err := b.o.Predecessor(ctx, u)
	if err != nil {
		return nil, err
	}
	o := order.Options{Most: room, Least: leastFollowed}
	if last == nil {
		if u.Stack.Dead > 0 {
			room = order.FirstWithDead(room)
		}
		return b.layersOf(u, l, order.Lay(order.Assess(l.items, order.Cut(l.items, room, o.Least), o), 0, o)), nil
	}
	s.follows = last.Digest
	before := layTogether(last.Layers, hintsOf(recipe.Stack{}))
	history := make([]order.Version, 0, len(last.Past)+2)
	for _, past := range last.Past {
		history = append(history, VersionOf(past))
	}
	history = append(history, order.Version{Items: before.items, Same: before.same}, order.Version{Items: l.items, Same: l.same})
	o.Versions = order.Learn(history)
	if o.Dead = u.Stack.Dead; o.Dead > 0 && len(last.Stored) == len(last.Layers) {
		if layers := b.leavingDead(u, s, l, last, o); layers != nil {
			return layers, nil
		}
	}
	held := make([]order.Before, len(last.Layers))
	for n := range held {
		held[n] = order.Before{}
	}
	for i, item := range before.items {
		held[before.layer[i]][item.Path] = before.same[i]
	}
	parts := order.Divide(l.items, func(i int) string { return l.same[i] }, held, o)
	if len(parts) == len(held) && !slices.ContainsFunc(parts, func(p order.Part) bool { return p.Old < 0 }) {
		s.follows = last.Follows // nothing changed, so it is to be the same image again
		slices.SortFunc(parts, func(a, b order.Part) int { return a.Old - b.Old })
		return b.layersOf(u, l, itemsOf(parts)), nil
	}
	return b.layersOf(u, l, order.Lay(parts, len(held), o)), nil
}

func itemsOf(parts []order.Part) (lists [][]int) {
	for _, p := range parts {
		lists = append(lists, p.Items)
	}
	return lists
}

// cold divides each step by paths and sizes alone. The order is the recipe's, but for what hints say.
func (b *builder) cold(ctx context.Context, u *plan.Unit, s *unitState, room int) (layers []*stepTree, err error) {
	if len(s.loose) > room {
		return b.merged(ctx, u, s, room)
	}
	for _, t := range s.loose {
		parts, err := b.partsOf(ctx, u, s, t)
		if err != nil {
			return nil, err
		}
		layers = append(layers, parts...)
	}
	if !hinted(u.Stack) {
		return layers, nil
	}
	return restack(ctx, u, layers)
}

// restack puts layers into the order that hints make best. What has no hint is taken to change in one version of four.
func restack(ctx context.Context, u *plan.Unit, layers []*stepTree) ([]*stepTree, error) {
	weights := make([]order.Weight, len(layers))
	reach := make([]*tree.Reach, len(layers))
	below := make([]order.Versions, len(layers))
	for i, t := range layers {
		entries, err := t.all(ctx)
		if err != nil {
			return nil, err
		}
		reach[i] = tree.ReachOf(entries)
		weights[i] = order.Weight{Chance: hintChances[hintOf(u, entries)]}
		for j := range entries {
			weights[i].Size += sizeInLayer(&entries[j])
		}
		for j := range i {
			if !reach[j].Commutes(reach[i]) {
				below[i] = below[i].With(j)
			}
		}
	}
	var out []*stepTree
	for _, n := range order.Stack(weights, below) {
		out = append(out, layers[n])
	}
	return out, nil
}

var hintChances = map[order.Hint]order.Share{order.Steady: order.One / 64, order.Unhinted: order.One / 4, order.Lively: order.One * 15 / 16}

// hintOf is what a person says of a layer: the liveliest of its files counts.
func hintOf(u *plan.Unit, entries []tree.Entry) order.Hint {
	hint, most := hintsOf(u.Stack), order.Steady
	for i := range entries {
		if entries[i].Kind != tree.Folder {
			most = max(most, hint(entries[i].Path))
		}
	}
	return most
}

// partsOf divides one step; most are not worth it.
func (b *builder) partsOf(ctx context.Context, u *plan.Unit, s *unitState, t *stepTree) ([]*stepTree, error) {
	s.mutex.Lock()
	known := s.parts[t]
	if known == nil {
		known = &divided{}
		s.parts[t] = known
	}
	s.mutex.Unlock()
	known.once.Do(func() { known.parts, known.err = b.part(ctx, u, s, t) })
	return known.parts, known.err
}

// divided are the parts of a step.
type divided struct {
	once  sync.Once
	parts []*stepTree
	err   error
}

func (b *builder) part(ctx context.Context, u *plan.Unit, s *unitState, t *stepTree) ([]*stepTree, error) {
	parts := []*stepTree{t}
	if t.bytes >= 2*leastPart || hinted(u.Stack) {
		entries, err := t.all(ctx)
		if err != nil {
			return nil, err
		}
		l := layTogether([][]tree.Entry{entries}, hintsOf(u.Stack))
		l.steps = []*stepTree{t}
		room, err := s.room(u)
		if err != nil {
			return nil, err
		}
		if lists := coldParts(l.items, min(mostParts, room/max(1, s.expected))); len(lists) > 1 {
			parts = b.layersOf(u, l, lists)
			_ = b.o.Store.PutEntries(t.key, tree.EncodeEntries(entries)) // spares composing it again
		}
	}
	return parts, nil
}

// coldParts parts items into steady, other and lively ones, and cuts the others along their folders, large parts first.
func coldParts(items []order.Item, most int) (parts [][]int) {
	by := map[order.Hint][]int{}
	for i := range items {
		by[items[i].Hint] = append(by[items[i].Hint], i)
	}
	plain := make([]order.Item, 0, len(by[order.Unhinted]))
	for _, i := range by[order.Unhinted] {
		plain = append(plain, items[i])
	}
	size := map[int]int64{}
	var cut [][]int
	if len(plain) > 0 {
		cut = order.Cut(plain, max(1, most-len(by)+1), leastPart)
	}
	for _, list := range cut {
		var sum int64
		for n, i := range list {
			list[n] = by[order.Unhinted][i]
			sum += plain[i].Size
		}
		size[list[0]] = sum
	}
	slices.SortStableFunc(cut, func(a, b []int) int { return cmp.Compare(size[b[0]], size[a[0]]) })
	if list := by[order.Steady]; len(list) > 0 {
		parts = append(parts, list)
	}
	parts = append(parts, cut...)
	if list := by[order.Lively]; len(list) > 0 {
		parts = append(parts, list)
	}
	return squeeze(items, parts, max(1, most))
}

// merged lets neighbouring steps share layers, the smallest first, since there are more steps than room.
func (b *builder) merged(ctx context.Context, u *plan.Unit, s *unitState, room int) (layers []*stepTree, err error) {
	groups := make([][]*stepTree, len(s.loose))
	for i, t := range s.loose {
		groups[i] = []*stepTree{t}
	}
	size := func(n int) (sum int64) {
		for _, t := range groups[n] {
			sum += t.bytes
		}
		return sum
	}
	for len(groups) > room {
		at := 0
		for n := 1; n+1 < len(groups); n++ {
			if size(n)+size(n+1) < size(at)+size(at+1) {
				at = n
			}
		}
		groups = slices.Replace(groups, at, at+2, slices.Concat(groups[at], groups[at+1]))
	}
	for _, steps := range groups {
		if len(steps) == 1 {
			layers = append(layers, steps[0])
			continue
		}
		l, err := (&unitState{loose: steps}).together(ctx, u)
		if err != nil {
			return nil, err
		}
		all := make([]int, len(l.items))
		for i := range all {
			all[i] = i
		}
		layers = append(layers, b.layersOf(u, l, [][]int{all})...)
	}
	if hinted(u.Stack) {
		return restack(ctx, u, layers)
	}
	return layers, nil
}
