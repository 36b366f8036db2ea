// Package layering decides which layers an image has: what steps lay down is divided and stacked by rules of a lock, after the
// image that was published last, or by paths and sizes alone. It packs nothing and knows nothing of commands.
package layering

import (
	"cmp"
	"context"
	"fmt"
	"slices"

	"github.com/bmatcuk/doublestar/v4"

	"imbricat/internal/content/filetree"
	"imbricat/internal/content/layer"
	"imbricat/internal/content/store"
	"imbricat/internal/content/tree"
	"imbricat/internal/engine/order"
	"imbricat/internal/engine/step"
	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/event"
	"imbricat/internal/ground/once"
	"imbricat/internal/spec/division"
	"imbricat/internal/spec/plan"
	"imbricat/internal/spec/recipe"
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
	ImageKey   = "dev.imbricat.image"        // the name of an image of lists: others of its entry may lie in the same repository
	BelowKey   = "dev.imbricat.layers-below" // how many layers lie below the image's own
)

// Layer is a layer of an image. It never changes.
type Layer struct {
	Tree        *filetree.Tree
	Compression layer.Compression
	Label       string          // what history calls it
	Steps       []*step.Outcome // of which it holds something
	Lineage     digest.Key      // names it over changes of what it holds
	Published   *store.Record   // of one that stays as it was published, wherever its bytes are; else nil
}

// Key names the layer: its tree and how it is packed.
func (l *Layer) Key() digest.Key { return layer.RecordKey(l.Tree.Key, l.Compression) }

// ID tells layers apart that are packed: one that stays as it was published is none that is packed now, though they may hold the
// same.
func (l *Layer) ID() digest.Key {
	if l.Published != nil {
		return digest.Key("published " + string(l.Published.Layer.Digest))
	}
	return l.Key()
}

// Holds reports whether something of a step is in the layer.
func (l *Layer) Holds(o *step.Outcome) bool { return slices.Contains(l.Steps, o) }

// Whole reports whether the layer is what a step laid down, undivided.
func (l *Layer) Whole(o *step.Outcome) bool {
	return l.Tree == o.Tree && len(l.Steps) == 1 && l.Steps[0] == o
}

// Fresh reports whether the layer is to be packed again whatever is known.
func (l *Layer) Fresh() bool {
	return slices.ContainsFunc(l.Steps, func(o *step.Outcome) bool { return o.Task.Fresh })
}

// Of returns the layers that hold something of a step.
func Of(layers []*Layer, o *step.Outcome) (some []*Layer) {
	for _, l := range layers {
		if l.Holds(o) {
			some = append(some, l)
		}
	}
	return some
}

// Piece is what a step of an image laid down, or of a stage that the image starts from.
type Piece struct {
	*step.Outcome
	Lineage digest.Key // names the step over changes of what it takes in
}

// Unit is an image that is divided.
type Unit struct {
	Plan      *plan.Unit
	Base      int      // how many layers the image that lies lowest has
	Inherited []*Layer // of an image of the recipe that it starts from; they stay as they are
	Steps     []Piece  // above these, so far
	MostSteps int      // how many there will be at most
}

func (u *Unit) compression() layer.Compression { return layer.Compression(u.Plan.Compression) }

// Room is how many layers a unit may have above those that it starts from.
func (u *Unit) Room() (int, error) {
	below := len(u.Inherited) + u.Base
	if below >= recipe.MostLayers {
		return 0, fmt.Errorf("what it starts from has %d layers, and an image may have %d", below, recipe.MostLayers)
	}
	return max(1, cmp.Or(u.Plan.Stack.Layers, recipe.DefaultLayers)-below), nil
}

// VersionOf returns what layers hold together, for comparing versions.
func VersionOf(layers [][]tree.Entry) order.Version {
	l := mergeLayers(layers, hintsOf(recipe.Stack{}))
	return order.Version{Items: l.items, Same: l.identities()}
}

// Predecessors finds the images that others follow.
type Predecessors interface {
	// Predecessor returns the image of a unit that was published last; nil where there is none.
	Predecessor(ctx context.Context, u *plan.Unit) (*Predecessor, error)
}

// Warner tells doubts, each once, unless the recipe silences them.
type Warner interface {
	Warn(s *plan.Step, code, text string)
}

// Divider divides the images of one build. All fields must be set but those that say otherwise. NewDivider makes one that divides; others only
// tell policies.
type Divider struct {
	Store        *store.Store
	Rules        map[string]*division.Rules // of the lock, by image
	Predecessors Predecessors               // may be nil
	Warner       Warner

	decisions *once.Map[digest.Key, *decision]
}

// NewDivider completes a divider. Its work ends with ctx.
func NewDivider(ctx context.Context, d Divider) *Divider {
	d.decisions = once.NewMap[digest.Key, *decision](ctx)
	return &d
}

// Policy says where a unit's division comes from.
func (d *Divider) Policy(u *plan.Unit) recipe.Policy {
	switch {
	case u.Stack.Policy == recipe.Following && d.Predecessors != nil:
		return recipe.Following
	case (u.Stack.Policy == recipe.FromLock || u.Stack.Policy == "") && d.Rules[u.ID.Name] != nil:
		return recipe.FromLock
	}
	return recipe.Cold
}

// Early reports whether layers can be packed as steps end: each has layers of its own.
func (d *Divider) Early(u *Unit) bool {
	room, err := u.Room()
	return err == nil && d.Policy(u.Plan) == recipe.Cold && u.MostSteps <= room
}

// Division are the layers of an image, lowest first.
type Division struct {
	Layers    []*Layer
	Inherited int           // how many of them lie below the image's own
	Follows   digest.Digest // the image whose division was followed
}

// Own are the image's own layers.
func (d *Division) Own() []*Layer { return d.Layers[d.Inherited:] }

// Divide decides on a unit's layers. Every step must be known. Parts are of steps that were divided before.
func (d *Divider) Divide(ctx context.Context, u *Unit, parts map[*step.Outcome][]*Layer) (*Division, error) {
	room, err := u.Room()
	if err != nil {
		return nil, err
	}
	out := &Division{Inherited: len(u.Inherited)}
	var own []*Layer
	switch d.Policy(u.Plan) {
	case recipe.FromLock:
		own, err = d.ruled(ctx, u, d.Rules[u.Plan.ID.Name], room)
	case recipe.Following:
		own, out.Follows, err = d.following(ctx, u, room)
	default:
		own, err = d.cold(ctx, u, room, parts)
	}
	out.Layers = slices.Concat(u.Inherited, own)
	return out, err
}

// hintsOf returns what a person says of paths.
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
func (d *Divider) ruled(ctx context.Context, u *Unit, rules *division.Rules, room int) ([]*Layer, error) {
	ruled, err := d.divided(ctx, u, u.Steps, fmt.Sprintf("ruled %d %q", room, rules.Parts), func(l *mergedSteps) ([][]int, bool) {
		parts := order.Ruled(rules, l.items)
		return squeeze(l.items, parts, room), len(parts) > room
	})
	if ruled.crowded {
		d.Warner.Warn(nil, event.Layers, fmt.Sprintf("the lock divides %s into more layers than there is room for, so neighbours share one: `imbricat lock` divides it anew", u.Plan.ID.Name))
	}
	return ruled.layers, err
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

// following divides after the image that was published last, and tells which image that follows.
func (d *Divider) following(ctx context.Context, u *Unit, room int) ([]*Layer, digest.Digest, error) {
	l, err := mergeSteps(ctx, u.Steps, hintsOf(u.Plan.Stack))
	if err != nil || len(l.items) == 0 {
		return nil, "", err
	}
	last, err := d.Predecessors.Predecessor(ctx, u.Plan)
	if err != nil {
		return nil, "", err
	}
	o := order.Options{Most: room, Least: leastFollowed}
	if last == nil {
		if u.Plan.Stack.Dead > 0 {
			room = order.FirstWithDead(room)
		}
		return l.layersOf(u.compression(), order.Lay(order.Assess(l.items, order.Cut(l.items, room, o.Least), o), 0, o)), "", nil
	}
	follows := last.Digest
	before := mergeLayers(last.Layers, hintsOf(recipe.Stack{}))
	history := make([]order.Version, 0, len(last.Past)+2)
	for _, past := range last.Past {
		history = append(history, VersionOf(past))
	}
	history = append(history, order.Version{Items: before.items, Same: before.identities()}, order.Version{Items: l.items, Same: l.identities()})
	o.Versions = order.Learn(history)
	if o.Dead = u.Plan.Stack.Dead; o.Dead > 0 && len(last.Stored) == len(last.Layers) {
		if layers, same := d.leavingDead(u, l, last, o); layers != nil {
			if same {
				follows = last.Follows
			}
			return layers, follows, nil
		}
	}
	held := make([]order.Before, len(last.Layers))
	for n := range held {
		held[n] = order.Before{}
	}
	for i, item := range before.items {
		held[before.layer[i]][item.Path] = before.identities()[i]
	}
	parts := order.Divide(l.items, func(i int) string { return l.identities()[i] }, held, o)
	if len(parts) == len(held) && !slices.ContainsFunc(parts, func(p order.Part) bool { return p.Old < 0 }) {
		follows = last.Follows // nothing changed, so it is to be the same image again
		slices.SortFunc(parts, func(a, b order.Part) int { return a.Old - b.Old })
		return l.layersOf(u.compression(), itemsOf(parts)), follows, nil
	}
	return l.layersOf(u.compression(), order.Lay(parts, len(held), o)), follows, nil
}

func itemsOf(parts []order.Part) (lists [][]int) {
	for _, p := range parts {
		lists = append(lists, p.Items)
	}
	return lists
}

// cold divides each step by paths and sizes alone. The order is the recipe's, but for what hints say.
func (d *Divider) cold(ctx context.Context, u *Unit, room int, known map[*step.Outcome][]*Layer) (layers []*Layer, err error) {
	if len(u.Steps) > room {
		return shareLayers(ctx, u, room)
	}
	for _, s := range u.Steps {
		parts, is := known[s.Outcome]
		if !is {
			if parts, err = d.Part(ctx, u, s); err != nil {
				return nil, err
			}
		}
		layers = append(layers, parts...)
	}
	if !hinted(u.Plan.Stack) {
		return layers, nil
	}
	return restack(ctx, u, layers)
}

// restack puts layers into the order that hints make best. What has no hint is taken to change in one version of four.
func restack(ctx context.Context, u *Unit, layers []*Layer) ([]*Layer, error) {
	weights := make([]order.Weight, len(layers))
	reach := make([]*tree.Reach, len(layers))
	below := make([]order.Versions, len(layers))
	for i, t := range layers {
		entries, err := t.Tree.Entries(ctx)
		if err != nil {
			return nil, err
		}
		reach[i] = tree.ReachOf(entries)
		weights[i] = order.Weight{Chance: hintChances[hintOf(u.Plan.Stack, entries)]}
		for j := range entries {
			weights[i].Size += sizeInLayer(&entries[j])
		}
		for j := range i {
			if !reach[j].Commutes(reach[i]) {
				below[i] = below[i].With(j)
			}
		}
	}
	var out []*Layer
	for _, n := range order.Stack(weights, below) {
		out = append(out, layers[n])
	}
	return out, nil
}

var hintChances = map[order.Hint]order.Share{order.Steady: order.One / 64, order.Unhinted: order.One / 4, order.Lively: order.One * 15 / 16}

// hintOf is what a person says of a layer: the liveliest of its files counts.
func hintOf(s recipe.Stack, entries []tree.Entry) order.Hint {
	hint, most := hintsOf(s), order.Steady
	for i := range entries {
		if entries[i].Kind != tree.Folder {
			most = max(most, hint(entries[i].Path))
		}
	}
	return most
}

// Part divides one step; most are not worth it.
func (d *Divider) Part(ctx context.Context, u *Unit, s Piece) ([]*Layer, error) {
	if s.Bytes < 2*leastPart && !hinted(u.Plan.Stack) {
		return []*Layer{whole(u, s)}, nil
	}
	room, err := u.Room()
	if err != nil {
		return nil, err
	}
	most := min(mostParts, room/max(1, u.MostSteps))
	cut, err := d.divided(ctx, u, []Piece{s}, fmt.Sprintf("cut into %d of %d at least", most, leastPart), func(l *mergedSteps) ([][]int, bool) {
		if lists := coldParts(l.items, most); len(lists) > 1 {
			return lists, false
		}
		return nil, false
	})
	if err != nil {
		return nil, err
	}
	if len(cut.layers) == 0 {
		return []*Layer{whole(u, s)}, nil
	}
	if cut.worked {
		if entries, err := s.Entries(ctx); err == nil {
			_ = d.Store.PutTreeEntries(s.Key, tree.EncodeEntries(entries)) // spares composing it again
		}
	}
	return cut.layers, nil
}

// whole is a step as one layer.
func whole(u *Unit, s Piece) *Layer {
	return &Layer{Tree: s.Tree, Compression: u.compression(), Label: s.Task.Label, Steps: []*step.Outcome{s.Outcome}, Lineage: s.Lineage}
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

// shareLayers lets neighbouring steps share layers, the smallest first, since there are more steps than room.
func shareLayers(ctx context.Context, u *Unit, room int) (layers []*Layer, err error) {
	groups := make([][]Piece, len(u.Steps))
	for i, s := range u.Steps {
		groups[i] = []Piece{s}
	}
	size := func(n int) (sum int64) {
		for _, s := range groups[n] {
			sum += s.Bytes
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
			layers = append(layers, whole(u, steps[0]))
			continue
		}
		l, err := mergeSteps(ctx, steps, hintsOf(u.Plan.Stack))
		if err != nil {
			return nil, err
		}
		all := make([]int, len(l.items))
		for i := range all {
			all[i] = i
		}
		layers = append(layers, l.layersOf(u.compression(), [][]int{all})...)
	}
	if hinted(u.Plan.Stack) {
		return restack(ctx, u, layers)
	}
	return layers, nil
}
