package share

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	v1 "github.com/opencontainers/image-spec/specs-go/v1"

	"imbricat/internal/ground/digest"
)

// mostReplaced bounds how many manifests a cache remembers that it came in place of.
const mostReplaced = 100

// replacing returns a manifest as text, which remembers the one that it is put in place of.
func replacing(m *v1.Manifest, before []byte) ([]byte, error) {
	if before != nil {
		var old v1.Manifest
		if json.Unmarshal(before, &old) == nil {
			own := string(digest.FromBytes(before))
			list := append(slices.DeleteFunc(strings.Fields(old.Annotations[replacedKey]), func(d string) bool { return d == own }), own)
			m.Annotations = maps.Clone(old.Annotations)
			if m.Annotations == nil {
				m.Annotations = map[string]string{}
			}
			m.Annotations[replacedKey] = strings.Join(list[max(0, len(list)-mostReplaced):], " ")
		}
	}
	return json.Marshal(m)
}

// touch marks packs as used today, and reports whether that was not known.
func touch(m *v1.Manifest, took map[digest.Digest]bool, now time.Time) (changed bool) {
	if m == nil {
		return false
	}
	today := now.UTC().Truncate(24 * time.Hour).Format(time.RFC3339)
	for i := range m.Layers {
		l := &m.Layers[i]
		if took[l.Digest] && lastUse(*l) < today {
			l.Annotations = maps.Clone(l.Annotations)
			l.Annotations[usedKey] = today
			changed = true
		}
	}
	return changed
}

// Bounds say what of a shared cache is kept.
type Bounds struct {
	UnusedFor time.Duration // what was made or used since
	To        int64         // bytes: what was not used for longest goes first; 0: no bound
	DryRun    bool
}

// Trimmed tells what went of a shared cache, and what is left. Bytes are those of packs and layers, each once.
type Trimmed struct {
	Place     string
	Packs     int // that went: each is what one build shared
	Layers    int // that nothing lists any more
	Bytes     int64
	Left      int // packs
	LeftBytes int64
	Deleted   int    // earlier manifests, which would keep a registry from removing what they list
	Undeleted string // why some of these are still there
}

// Trim keeps a shared cache within bounds. In a registry it deletes what lists content; the content itself goes when the registry collects
// what nothing lists. No layer is deleted: an image may have it.
func Trim(ctx context.Context, b Backend, o Bounds, now time.Time) (t *Trimmed, err error) {
	err = b.Locked(ctx, func() error {
		for range 3 {
			m, body, err := current(ctx, b)
			if err != nil {
				return err
			}
			if m == nil {
				return fmt.Errorf("%s: %w", b.Place(), ErrNone)
			}
			rest, told := within(m, o, now)
			t = told
			t.Place = b.Place()
			if o.DryRun {
				return nil
			}
			done, err := t.replace(ctx, b, rest, body)
			if done || err != nil {
				return err
			}
		}
		return errors.New("others keep writing to it")
	})
	return t, err
}

// replace puts a trimmed manifest in place, and deletes what it replaced. It reports whether no other writer came between.
func (t *Trimmed) replace(ctx context.Context, b Backend, m *v1.Manifest, before []byte) (bool, error) {
	old := strings.Fields(m.Annotations[replacedKey])
	text := before
	if t.Packs+t.Layers+len(old) > 0 {
		m.Annotations = maps.Clone(m.Annotations)
		delete(m.Annotations, replacedKey)
		var err error
		if text, err = json.Marshal(m); err != nil {
			return false, err
		}
		old = append(old, string(digest.FromBytes(before)))
		if err := b.PutManifest(ctx, text); err != nil {
			return false, err
		}
	}
	now, err := b.Manifest(ctx)
	if err != nil || digest.FromBytes(now) != digest.FromBytes(text) {
		return false, err
	}
	slices.Sort(old)
	for _, name := range slices.Compact(old) {
		d, err := digest.Parse(name)
		if err != nil || d == digest.FromBytes(text) {
			continue
		}
		if err := b.Delete(ctx, d); err != nil {
			if ctx.Err() != nil {
				return true, ctx.Err()
			}
			t.Undeleted = err.Error()
			return true, nil
		}
		t.Deleted++
	}
	return true, nil
}

// within returns a manifest without the packs beyond bounds, and the layers that no other pack needs.
func within(m *v1.Manifest, o Bounds, now time.Time) (*v1.Manifest, *Trimmed) {
	var packs []v1.Descriptor
	for _, l := range m.Layers {
		if l.MediaType == packType {
			packs = append(packs, l)
		}
	}
	slices.SortStableFunc(packs, func(a, b v1.Descriptor) int { return strings.Compare(lastUse(a), lastUse(b)) })
	since := now.Add(-o.UnusedFor).UTC().Format(time.RFC3339)
	for len(packs) > 0 && o.UnusedFor > 0 && lastUse(packs[0]) < since {
		packs = packs[1:]
	}
	for len(packs) > 0 && o.To > 0 && bytesOf(listed(m, packs)) > o.To {
		packs = packs[1:]
	}
	kept := listed(m, packs)
	t := &Trimmed{Left: len(packs), LeftBytes: bytesOf(kept)}
	for _, l := range m.Layers {
		if slices.ContainsFunc(kept, func(k v1.Descriptor) bool { return k.Digest == l.Digest }) {
			continue
		}
		if t.Bytes += l.Size; l.MediaType == packType {
			t.Packs++
		} else {
			t.Layers++
		}
	}
	rest := *m
	rest.Layers = kept
	return &rest, t
}

// listed returns what a manifest lists for some of its packs, in its order.
func listed(m *v1.Manifest, packs []v1.Descriptor) []v1.Descriptor {
	needed, kept := map[string]bool{}, map[digest.Digest]bool{}
	for _, p := range packs {
		kept[p.Digest] = true
		for _, name := range strings.Fields(p.Annotations[layersKey]) {
			needed[name] = true
		}
	}
	list := []v1.Descriptor{}
	for _, l := range m.Layers {
		if l.MediaType == packType && kept[l.Digest] || l.MediaType != packType && needed[nameOf(string(l.Digest))] {
			list = append(list, l)
		}
	}
	return list
}

func bytesOf(list []v1.Descriptor) (n int64) {
	for _, l := range list {
		n += l.Size
	}
	return n
}
