// Package kit puts what a build needs besides the project's files into one archive, and gives it to a build on a machine without a network:
// the recipe with its lock, bases, downloads, and what commands left. The build there comes to the same digests.
//
// An archive is an OCI image layout with a list of what it is. All of it is verified as it is read, whoever made it; what commands left is
// believed, as of a shared cache.
package kit

import (
	"archive/tar"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"imbricat/internal/content/image"
	"imbricat/internal/content/layout"
	"imbricat/internal/content/store"
	"imbricat/internal/engine"
	"imbricat/internal/flow"
	"imbricat/internal/flow/workspace"
	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/event"
	"imbricat/internal/ground/files"
	"imbricat/internal/ground/platform"
	"imbricat/internal/ground/reference"
	"imbricat/internal/remote/share"
	"imbricat/internal/spec/plan"
	"imbricat/internal/spec/recipe"
)

// Format is that of archives which this program writes and reads.
const Format = 1

// listName is the list of what an archive is, its first file.
const listName = "kit.json"

// Bounds of an archive.
const (
	maxList = 32 << 20 // bytes of the list, and of every other file but blobs
	mostOf  = 200_000  // blobs
)

// List is what an archive is.
type List struct {
	Format  int                          `json:"kit"`
	Program string                       `json:"program"`
	Recipes map[string]string            `json:"recipes"` // texts by their files
	Lock    string                       `json:"lock,omitempty"`
	Images  map[string]digest.Digest     `json:"images"` // that the build made
	Bases   map[string]digest.Descriptor `json:"bases"`  // what references stand for
	Blobs   []digest.Descriptor          `json:"blobs"`  // of bases, downloads and layers
}

// making collects what a build needs.
type making struct {
	w    *workspace.Workspace
	to   *layout.Layout
	list *List
	had  map[digest.Digest]bool
}

// Make writes what a build needed, and what it made of it, to a file.
func Make(ctx context.Context, w *workspace.Workspace, result *engine.Result, program, file string) (*List, error) {
	dir, err := w.Store.TemporaryFolder()
	if err != nil {
		return nil, err
	}
	defer func() { _ = w.Store.Discard(dir) }() // what stays is swept later
	m := &making{w: w, had: map[digest.Digest]bool{}, list: &List{Format: Format, Program: program, Recipes: map[string]string{}, Images: map[string]digest.Digest{}, Bases: map[string]digest.Descriptor{}}}
	cache, err := share.InFolder(dir)
	if err != nil {
		return nil, err
	}
	published := share.New(cache, w.Store, share.Write, share.DefaultPatience, func(err error) {})
	if err := published.Publish(ctx, share.Finished{Runs: result.Runs, Layers: result.Layers, Bases: result.Bases}); err != nil {
		return nil, fmt.Errorf("what commands left: %w", err)
	}
	if m.to, err = layout.Create(dir, ""); err != nil {
		return nil, err
	}
	for name, text := range w.Recipe.File.Texts() {
		m.list.Recipes[name] = text
	}
	if text, err := os.ReadFile(w.LockPath()); err == nil {
		m.list.Lock = string(text)
	}
	for _, i := range result.Images {
		m.list.Images[i.Name] = i.Descriptor.Digest
	}
	if err := m.bases(ctx); err != nil {
		return nil, err
	}
	if err := m.downloads(ctx); err != nil {
		return nil, err
	}
	for _, record := range result.Layers { // which others would leave in the cache while they only stack them
		if err := m.blob(ctx, record.Layer); err != nil {
			return nil, err
		}
	}
	slices.SortFunc(m.list.Blobs, func(a, b digest.Descriptor) int { return strings.Compare(string(a.Digest), string(b.Digest)) })
	return m.list, m.write(dir, file)
}

// bases takes every image that the plan starts from or takes from.
func (m *making) bases(ctx context.Context) error {
	o, done, err := m.w.Engine(ctx, event.Discard)
	if err != nil {
		return err
	}
	defer done()
	take := func(ref reference.Reference, p platform.Platform) error {
		found, err := o.Bases.Resolve(ctx, ref, p)
		if err == nil {
			err = found.Source.FetchAll(ctx)
		}
		if err != nil {
			return fmt.Errorf("the base %s: %w", ref, err)
		}
		if ref.Kind == reference.Registry || ref.Kind == reference.Store {
			m.list.Bases[found.Name] = found.Root
		}
		return m.image(ctx, found.Root, found.Descriptor)
	}
	for _, u := range m.w.Plan.Units {
		if u.Base.Kind == recipe.ReferenceBase {
			if err := take(u.Base.Reference, u.Machine); err != nil {
				return err
			}
		}
		for i := range u.Steps {
			for _, use := range u.Steps[i].Do.References() {
				if err := take(use.Reference, u.Machine); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

// image takes an image for one platform, with the index that it is of.
func (m *making) image(ctx context.Context, root, desc digest.Descriptor) error {
	manifest, err := image.ReadManifest(ctx, m.w.Store, desc)
	if err != nil {
		return err
	}
	for _, blob := range slices.Concat(manifest.Layers, []digest.Descriptor{manifest.Config, desc, root}) {
		if image.Undistributed(blob.MediaType) && !m.w.Store.Has(blob) {
			continue
		}
		if err := m.blob(ctx, blob); err != nil {
			return err
		}
	}
	return nil
}

// blob takes a blob of the store.
func (m *making) blob(ctx context.Context, desc digest.Descriptor) error {
	if m.had[desc.Digest] {
		return nil
	}
	m.had[desc.Digest] = true
	in, err := m.w.Store.Fetch(ctx, desc)
	if err != nil {
		return err
	}
	defer in.Close()
	m.list.Blobs = append(m.list.Blobs, digest.Descriptor{MediaType: desc.MediaType, Digest: desc.Digest, Size: desc.Size})
	return m.to.Put(ctx, desc, in)
}

// downloads takes what steps fetched.
func (m *making) downloads(ctx context.Context) error {
	return eachDownload(m.w.Plan, func(d digest.Digest) error {
		path, err := m.w.Store.BlobPath(d)
		if err != nil {
			return err
		}
		info, err := os.Stat(path)
		if errors.Is(err, fs.ErrNotExist) {
			return fmt.Errorf("the store has lost %s, which a step fetched: build again with --fresh", d)
		}
		if err != nil {
			return err
		}
		return m.blob(ctx, digest.Descriptor{Digest: d, Size: info.Size()})
	})
}

func eachDownload(p *plan.Plan, do func(digest.Digest) error) error {
	for _, u := range p.Units {
		for i := range u.Steps {
			for _, d := range u.Steps[i].Do.Downloads() {
				if err := do(digest.Digest("sha256:" + d.SHA256)); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

// write writes the folder as an archive: the list, and then all else by its name.
func (m *making) write(dir, file string) (err error) {
	text, err := json.Marshal(m.list)
	if err != nil {
		return err
	}
	return files.Write(file, 0o644, func(out io.Writer) error {
		t := tar.NewWriter(out)
		if err := t.WriteHeader(&tar.Header{Name: listName, Mode: 0o644, Size: int64(len(text)), Typeflag: tar.TypeReg}); err != nil {
			return err
		}
		if _, err := t.Write(text); err != nil {
			return err
		}
		err := filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
			if err != nil || !d.Type().IsRegular() {
				return err
			}
			name, err := filepath.Rel(dir, path)
			if err != nil || !member.MatchString(filepath.ToSlash(name)) {
				return err
			}
			return addFile(t, path, filepath.ToSlash(name))
		})
		if err != nil {
			return err
		}
		return t.Close()
	})
}

func addFile(t *tar.Writer, path, name string) error {
	f, err := os.Open(path)
	if err != nil {
		return err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return err
	}
	if err := t.WriteHeader(&tar.Header{Name: name, Mode: 0o644, Size: info.Size(), Typeflag: tar.TypeReg}); err != nil {
		return err
	}
	_, err = io.Copy(t, f)
	return err
}

// member is what an archive may hold besides its list.
var member = regexp.MustCompile(`^(?:oci-layout|index\.json|blobs/sha(?:256/[0-9a-f]{64}|512/[0-9a-f]{128}))$`)

// Open takes what an archive has into a store. dir is where what commands left lies then, as a shared cache, until it is discarded.
func Open(ctx context.Context, st *store.Store, file string) (list *List, dir string, err error) {
	f, err := files.OpenRegular(file)
	if err != nil {
		return nil, "", flow.Usagef("the kit: %w", err)
	}
	defer f.Close()
	if dir, err = st.TemporaryFolder(); err != nil {
		return nil, "", err
	}
	defer func() {
		if err != nil {
			_ = st.Discard(dir) // what stays is swept later
		}
	}()
	if list, err = unpack(tar.NewReader(f), dir); err != nil {
		return nil, dir, fmt.Errorf("%s is no kit, or a damaged one: %w", file, err)
	}
	from, err := layout.Open(dir)
	if err != nil {
		return nil, dir, fmt.Errorf("%s: %w", file, err)
	}
	for _, desc := range list.Blobs {
		if st.Has(desc) {
			continue
		}
		in, err := from.Fetch(ctx, desc)
		if err != nil {
			return nil, dir, fmt.Errorf("%s: %w", file, err)
		}
		err = st.Put(ctx, desc, in) // which verifies it
		in.Close()
		if err != nil {
			return nil, dir, fmt.Errorf("%s: %w", file, err)
		}
	}
	return list, dir, nil
}

// unpack writes an archive into a folder. Names are those that a layout has, whatever the archive says.
func unpack(t *tar.Reader, dir string) (*List, error) {
	var list *List
	for n := 0; ; n++ {
		h, err := t.Next()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return nil, err
		}
		switch {
		case n > mostOf:
			return nil, fmt.Errorf("it has more than %d files", mostOf)
		case h.Typeflag != tar.TypeReg:
			return nil, fmt.Errorf("%q is no file", h.Name)
		case n == 0 && h.Name == listName:
			if list, err = readList(t, h.Size); err != nil {
				return nil, err
			}
			continue
		case n == 0:
			return nil, fmt.Errorf("it begins with %q, not with %s", h.Name, listName)
		case !member.MatchString(h.Name):
			return nil, fmt.Errorf("%q is not a part of one", h.Name)
		case !strings.HasPrefix(h.Name, "blobs/") && h.Size > maxList:
			return nil, fmt.Errorf("%s has %d bytes", h.Name, h.Size)
		}
		if err := writeFile(filepath.Join(dir, filepath.FromSlash(h.Name)), t); err != nil {
			return nil, err
		}
	}
	if list == nil {
		return nil, errors.New("it is empty")
	}
	return list, nil
}

func readList(in io.Reader, size int64) (*List, error) {
	if size > maxList {
		return nil, fmt.Errorf("its list has %d bytes", size)
	}
	list := &List{}
	if err := json.NewDecoder(in).Decode(list); err != nil {
		return nil, fmt.Errorf("its list: %w", err)
	}
	if list.Format != Format {
		return nil, fmt.Errorf("it has format %d, and this version reads %d", list.Format, Format)
	}
	for _, d := range list.Blobs {
		if err := d.Digest.Validate(); err != nil || d.Size < 0 {
			return nil, fmt.Errorf("its list names the blob %q", d.Digest)
		}
	}
	for name, d := range list.Bases {
		if err := d.Digest.Validate(); err != nil {
			return nil, fmt.Errorf("its list: %s: %w", name, err)
		}
	}
	return list, nil
}

func writeFile(path string, in io.Reader) error {
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return err
	}
	f, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o644)
	if err != nil {
		return err
	}
	_, err = io.Copy(f, in)
	return errors.Join(err, f.Close())
}

// Pinned is what the references of an archive stand for.
func (l *List) Pinned() map[string]digest.Digest {
	all := map[string]digest.Digest{}
	for name, d := range l.Bases {
		all[name] = d.Digest
	}
	return all
}

// Differs tells in words why a project may come to something else than an archive was made for; "" where it has the same recipe and lock.
func (l *List) Differs(p *workspace.Planned) string {
	now := map[string]string{}
	for name, text := range p.Recipe.File.Texts() {
		now[name] = text
	}
	for name, text := range l.Recipes {
		if now[name] != text {
			return "the recipe " + name + " is not the one that the kit was made with"
		}
	}
	if text, err := os.ReadFile(p.LockPath()); err == nil && string(text) != l.Lock || err != nil && l.Lock != "" {
		return "the lock is not the one that the kit was made with"
	}
	return ""
}
