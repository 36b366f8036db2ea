package store

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"time"

	"imbricat/internal/content/layer"
	"imbricat/internal/content/layout"
	"imbricat/internal/ground/digest"
)

const (
	claims  = "claims"  // what others say of layers that nobody here has read, by the hash of what it is about
	origins = "origins" // what came from where, by the hash of what brought it
)

// Claim is what others say a layer holds.
type Claim struct {
	Place  string        `json:"place"` // who says so
	DiffID digest.DiffID `json:"diffID"`
	Tree   digest.Key    `json:"tree,omitempty"` // empty: the index that is kept for the diffID
}

// mostClaims bounds how many claims there are about one layer.
const mostClaims = 16

// Claimed keeps what a place says of a layer: of a blob by its digest, or of an index by its diffID. It is believed as long as nobody
// opens the layer, and checked then.
func (s *Store) Claimed(about string, c Claim) error {
	all := s.claimsAbout(about)
	if slices.Contains(all, c) {
		return nil
	}
	all = append(all, c)
	name, err := s.fileFor(claims, about, ".json")
	if err != nil {
		return err
	}
	text, err := Seal(all[max(0, len(all)-mostClaims):])
	if err != nil {
		return err
	}
	return s.WriteQuick(name, text)
}

func (s *Store) claimsAbout(about string) (all []Claim) {
	name, err := s.fileFor(claims, about, ".json")
	if err != nil {
		return nil
	}
	if text, err := os.ReadFile(s.path(name)); err == nil && Unseal(text, &all) == nil {
		s.rely(s.path(name))
	}
	return all
}

func (s *Store) settle(about string) {
	if name, err := s.fileFor(claims, about, ".json"); err == nil {
		os.Remove(s.path(name))
	}
}

// admit compares a layer that is opened with what others have said of it. What is not so is forgotten, and the error is an
// *AwayError that wraps digest.ErrMismatch.
func (s *Store) admit(ctx context.Context, desc digest.Descriptor) error {
	if len(desc.Digest.Encoded()) != 64 {
		return nil // such layers are never ours
	}
	return s.prove(ctx, desc, string(desc.Digest))
}

// Prove compares a layer with what others have said of its diffID, before its index is relied on for more than names.
func (s *Store) Prove(ctx context.Context, desc digest.Descriptor, id digest.DiffID) error {
	return s.prove(ctx, desc, string(id))
}

func (s *Store) prove(ctx context.Context, desc digest.Descriptor, about string) error {
	all := s.claimsAbout(about)
	if len(all) == 0 {
		return nil
	}
	indexed, err := s.index(ctx, desc)
	if err != nil {
		return err
	}
	kept, known := s.LayerIndex(indexed.DiffID)
	lies := slices.DeleteFunc(slices.Clone(all), func(c Claim) bool {
		holds := c.Tree == layer.KeyOf(indexed.Entries)
		if c.Tree == "" {
			holds = !known || same(kept, indexed)
		}
		return c.DiffID == indexed.DiffID && holds
	})
	if known && !same(kept, indexed) {
		s.DropLayerIndex(indexed.DiffID)
	}
	if len(lies) > 0 {
		// All that is not so goes, whoever said it: there may have been more claims than are kept.
		tree := layer.KeyOf(indexed.Entries)
		if _, err := dropSealed(s, "records", func(r *Record) bool {
			return r.Layer.Digest == desc.Digest && (r.DiffID != indexed.DiffID || r.Tree != tree)
		}); err != nil {
			return err
		}
		for _, lie := range lies {
			s.DropLayerIndex(lie.DiffID)
		}
	}
	s.settle(about)
	if len(lies) == 0 {
		return nil
	}
	return &AwayError{Blob: desc.Digest, Places: []string{lies[0].Place}, Here: true, Err: fmt.Errorf("it holds something else: %w", digest.ErrMismatch)}
}

// same reports whether an index that is kept is that of a layer; those of layers that others packed have no times.
func same(kept []byte, of *layer.Indexed) bool {
	return string(kept) == string(of.Encode()) || string(kept) == string(of.Untimed().Encode())
}

// index reads what a layer of the store holds, with times.
func (s *Store) index(ctx context.Context, desc digest.Descriptor) (*layer.Indexed, error) {
	path, err := s.BlobPath(desc.Digest)
	if err != nil {
		return nil, err
	}
	f, err := openUnused(path)
	if errors.Is(err, os.ErrNotExist) { // it may be elsewhere; what is said of the blob itself is settled by that
		blob, err := s.Fetch(ctx, desc)
		if err != nil {
			return nil, err
		}
		blob.Close()
		f, err = os.Open(path)
		if err != nil {
			return nil, fmt.Errorf("reading the store: %w", err)
		}
	} else if err != nil {
		return nil, fmt.Errorf("reading the store: %w", err)
	}
	defer f.Close()
	indexed, err := layer.IndexTimed(digest.WithContext(ctx, f))
	if err != nil {
		return nil, fmt.Errorf("the layer %s: %w", desc.Digest, err)
	}
	return indexed, nil
}

// DiffIDOf returns what a layer of the store unpacks to, and keeps what it holds. What was seen before is not read again.
func (s *Store) DiffIDOf(ctx context.Context, desc digest.Descriptor) (digest.DiffID, error) {
	question := digest.Key(digest.ContentBytes([]byte("imbricat diffID 1 " + string(desc.Digest))))
	if seen, found := s.Note(question); found {
		return digest.DiffID(seen), nil
	}
	indexed, err := s.index(ctx, desc)
	if err != nil {
		return "", err
	}
	if !s.HasLayerIndex(indexed.DiffID) {
		if err := s.PutLayerIndex(indexed.DiffID, indexed.Untimed().Encode()); err != nil {
			return "", err
		}
	}
	return indexed.DiffID, s.PutNote(question, []byte(indexed.DiffID))
}

// VerifyLayer makes sure that a layer of the store unpacks to what its image says, and keeps what it holds.
func (s *Store) VerifyLayer(ctx context.Context, desc digest.Descriptor, id digest.DiffID) error {
	seen, err := s.DiffIDOf(ctx, desc)
	if err != nil {
		return err
	}
	if seen != id {
		return fmt.Errorf("the layer %s unpacks to %s, and its image says %s: %w", desc.Digest, seen, id, digest.ErrMismatch)
	}
	return nil
}

// Origin is what one message from elsewhere brought into the store.
type Origin struct {
	Place   string          `json:"place"`
	Records []digest.Key    `json:"records,omitempty"`
	Layers  []digest.Digest `json:"layers,omitempty"`
	Runs    []RunName       `json:"runs,omitempty"`
	Trees   []digest.Key    `json:"trees,omitempty"` // that its runs and layers are said to leave
	Indexes []digest.DiffID `json:"indexes,omitempty"`
}

// RunName names a run.
type RunName struct {
	Key   digest.Key `json:"key"`
	Trace digest.Key `json:"trace"`
}

// NoteOrigin keeps what was brought, before it is used, under a name of who brought it.
func (s *Store) NoteOrigin(name digest.Key, o Origin) error {
	file, err := s.fileFor(origins, string(name), ".json")
	if err != nil {
		return err
	}
	text, err := Seal(o)
	if err != nil {
		return err
	}
	return s.WriteQuick(file, text)
}

// Forgotten tells what Forget removed.
type Forgotten struct {
	Place   string   `json:"place"`
	Records int      `json:"records"` // of layers
	Runs    int      `json:"runs"`    // of commands, with those that ran over what came from there
	Indexes int      `json:"indexes"` // of foreign layers
	Kept    []string `json:"kept"`    // kept directories that such commands filled
	Images  []string `json:"images"`  // that hold such layers: they stay, and are to be built again
}

// Forget drops all that a place brought into the store: records, what commands are said to have left and whatever ran over
// that, with the kept directories that such commands filled, and where the place has blobs. It names the images that are
// made of it.
func (s *Store) Forget(place string) (*Forgotten, error) {
	out := &Forgotten{Place: place, Kept: []string{}, Images: []string{}}
	records, trees, layers, ran := map[digest.Key]bool{}, map[digest.Key]bool{}, map[digest.Digest]bool{}, map[RunName]bool{}
	var due []string
	err := s.eachFile(filepath.Join("imbricat", origins), func(path string) error {
		var o Origin
		text, err := os.ReadFile(path)
		if err != nil || Unseal(text, &o) != nil || o.Place != place {
			return nil
		}
		due = append(due, path)
		for _, key := range o.Records {
			records[key] = true
		}
		for _, d := range o.Layers {
			layers[d] = true
		}
		for _, r := range o.Runs {
			ran[r] = true
		}
		for _, key := range o.Trees {
			trees[key] = true
		}
		for _, id := range o.Indexes {
			if s.HasLayerIndex(id) {
				s.DropLayerIndex(id)
				out.Indexes++
			}
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	if out.Records, err = dropSealed(s, "records", func(r *Record) bool {
		if records[r.Key] {
			s.DropLayerIndex(r.DiffID)
		}
		return records[r.Key]
	}); err != nil {
		return nil, err
	}
	kept := map[string]bool{}
	for again := true; again; { // what ran over what came from there, and over that
		again = false
		dropped, err := dropSealed(s, runs, func(r *Run) bool {
			is := ran[RunName{r.Key, r.Trace}] || slices.ContainsFunc(r.Over, func(below digest.Key) bool { return trees[below] })
			if is && !r.Shared {
				again = again || !trees[r.Tree]
				for _, name := range r.Kept {
					kept[name] = true
				}
			}
			trees[r.Tree] = trees[r.Tree] || is
			return is
		})
		if err != nil {
			return nil, err
		}
		out.Runs += dropped
	}
	if out.Kept, err = s.dropKeptNamed(kept); err != nil {
		return nil, err
	}
	s.ForgetPlaces([]string{place})
	list, err := s.List()
	if err != nil {
		return nil, err
	}
	for _, image := range list {
		if s.madeOf(image, layers) {
			out.Images = append(out.Images, image.String())
		}
	}
	for _, path := range due {
		if err := os.Remove(path); err != nil {
			return nil, fmt.Errorf("writing to the store: %w", err)
		}
	}
	return out, nil
}

// madeOf reports whether an image of the store is made of one of some layers.
func (s *Store) madeOf(image layout.Named, layers map[digest.Digest]bool) bool {
	todo := []digest.Digest{image.Descriptor.Digest}
	seen := map[digest.Digest]bool{}
	for len(todo) > 0 {
		d := todo[0]
		todo = todo[1:]
		if layers[d] {
			return true
		}
		if _, document := s.Document(d); !document || seen[d] {
			continue
		}
		seen[d] = true
		for _, need := range s.needs(d) {
			todo = append(todo, need.Digest)
		}
	}
	return false
}

// dropKeptNamed removes kept directories by their names, whoever owns their files, when those who have them are done.
func (s *Store) dropKeptNamed(names map[string]bool) ([]string, error) {
	dropped := []string{}
	all, err := s.KeptDirs()
	for _, k := range all {
		if err != nil || !names[k.Name] {
			continue
		}
		var gone bool
		for !gone && err == nil {
			if gone, err = s.DropKept(k.Owners, k.Name); !gone && err == nil {
				time.Sleep(50 * time.Millisecond)
			}
		}
		dropped = append(dropped, k.Name)
	}
	slices.Sort(dropped)
	return slices.Compact(dropped), err
}
