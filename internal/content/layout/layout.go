// Package layout reads and writes OCI image layouts: a folder of blobs by their digest, with a list of named images.
//
// Every write is atomic: a temporary file, synced, renamed. A kill at any moment loses nothing finished, and several
// processes may write to one layout.
package layout

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/gofrs/flock"
	specs "github.com/opencontainers/image-spec/specs-go"
	v1 "github.com/opencontainers/image-spec/specs-go/v1"

	"imbricat/internal/ground/count"
	"imbricat/internal/ground/digest"
	"imbricat/internal/ground/files"
)

// Layout is an open layout. Its methods may be called from several goroutines.
type Layout struct {
	dir, temp string
	private   bool       // nobody else may look into it
	turn      sync.Mutex // to change the list of names
	names     atomic.Pointer[readNames]
	written   atomic.Int64
	// sync waits until a file, or the names in a folder, lie on the disk; tests look at what has been done by then.
	sync func(*os.File) error
	// Project is whose names come first, where several projects keep images in one layout: the path of its recipe.
	Project string
	// Mine, where set, tells whether a name is one of the project's own images: another project's never stands for it.
	Mine func(name string) bool
	// Use, where set, is told of every blob that somebody relies on, by its path, and answers whether it is there still.
	Use func(path string, d digest.Digest) bool
	// Complete, where set, is told of every blob that was written, by its path.
	Complete func(path string, d digest.Digest)
	// Absent, where set, is asked for a blob that is not here: it may bring it, and tells whether it tried.
	Absent func(ctx context.Context, desc digest.Descriptor) (bool, error)
	// Admit may refuse that a blob is opened; nil where every blob may be.
	Admit func(ctx context.Context, desc digest.Descriptor) error
}

// ErrNotFound is wrapped when a name or a digest is not there.
var ErrNotFound = errors.New("not there")

// Open opens a layout that exists.
func Open(dir string) (*Layout, error) {
	text, err := os.ReadFile(filepath.Join(dir, v1.ImageLayoutFile))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("%s is not an image layout: it has no %s: %w", dir, v1.ImageLayoutFile, fs.ErrNotExist)
	}
	if err != nil {
		return nil, fmt.Errorf("reading %s: %w", dir, err)
	}
	var version v1.ImageLayout
	if json.Unmarshal(text, &version) != nil || version.Version != v1.ImageLayoutVersion {
		return nil, fmt.Errorf("%s is an image layout of an unknown version", dir)
	}
	return &Layout{dir: dir, temp: dir, sync: syncFile}, nil
}

// Create opens a layout and makes it where it does not exist. temp is where unfinished files lie, on the same file
// system; empty stands for the layout's own folder.
func Create(dir, temp string) (*Layout, error) { return create(&Layout{dir: dir, temp: temp}) }

// CreatePrivate is like Create for a layout that nobody but its owner may look into, whatever the umask: its folder and that
// of what is unfinished are closed to others. It knows when it got its images.
func CreatePrivate(dir, temp string) (*Layout, error) {
	l, err := create(&Layout{dir: dir, temp: temp, private: true})
	if err != nil {
		return nil, err
	}
	for _, folder := range []string{l.dir, filepath.Dir(l.temp)} {
		// Who may only read it cannot, and need not.
		if info, err := os.Stat(folder); err == nil && info.Mode().Perm()&0o077 != 0 && info.Mode()&fs.ModeSticky == 0 {
			_ = os.Chmod(folder, 0o700)
		}
	}
	return l, nil
}

var synced = count.New("files and folders synced")

func syncFile(f *os.File) error {
	synced.Add(1)
	return f.Sync()
}

func create(l *Layout) (*Layout, error) {
	dir, temp := l.dir, l.temp
	l.sync = syncFile
	if temp == "" {
		l.temp = dir
	}
	if err := l.checkEmpty(); err != nil {
		return nil, err
	}
	for _, folder := range []string{l.path("blobs", "sha256"), l.temp} {
		if err := os.MkdirAll(folder, 0o755); err != nil {
			return nil, fmt.Errorf("writing %s: %w", dir, err)
		}
	}
	version, err := json.Marshal(v1.ImageLayout{Version: v1.ImageLayoutVersion})
	if err == nil {
		err = l.CreateOnce(v1.ImageLayoutFile, version)
	}
	if err != nil {
		return nil, err
	}
	empty, err := json.Marshal(v1.Index{Versioned: specs.Versioned{SchemaVersion: 2}, MediaType: v1.MediaTypeImageIndex, Manifests: []v1.Descriptor{}})
	if err == nil {
		err = l.CreateOnce(v1.ImageIndexFile, empty)
	}
	return l, err
}

// checkEmpty refuses a folder that holds something else, so that a slip in a path litters nobody's project.
func (l *Layout) checkEmpty() error {
	if _, err := os.Stat(l.path(v1.ImageLayoutFile)); err == nil {
		return nil
	}
	entries, err := os.ReadDir(l.dir)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return fmt.Errorf("writing %s: %w", l.dir, cause(err))
	}
	below, err := filepath.Rel(l.dir, l.temp)
	if err != nil {
		return fmt.Errorf("writing %s: %w", l.dir, err)
	}
	temp, _, _ := strings.Cut(filepath.ToSlash(below), "/")
	for _, e := range entries {
		// What an interrupted start may have left.
		ours := e.Name() == "blobs" || e.Name() == temp || e.Name() == v1.ImageIndexFile || strings.HasPrefix(e.Name(), ".new-")
		if !ours {
			return fmt.Errorf("%s holds other things and is not an image layout: name a folder that is empty or new", l.dir)
		}
	}
	return nil
}

// Written returns how many bytes this process has written.
func (l *Layout) Written() int64 { return l.written.Load() }

// Dir is the layout's folder.
func (l *Layout) Dir() string { return l.dir }

func (l *Layout) path(parts ...string) string {
	return filepath.Join(append([]string{l.dir}, parts...)...)
}

// CreateOnce writes a file below the layout unless it is there.
func (l *Layout) CreateOnce(name string, content []byte) error {
	if _, err := os.Stat(l.path(name)); err == nil {
		return nil
	}
	w, err := l.begin(content)
	if err != nil {
		return err
	}
	defer w.Abort()
	err = l.sync(w.file)
	if err == nil {
		err = w.file.Chmod(0o644)
	}
	if err == nil {
		err = os.MkdirAll(filepath.Dir(l.path(name)), 0o755)
	}
	if err == nil {
		// A link, unlike a rename, never replaces what another process has put there meanwhile.
		if err = os.Link(w.file.Name(), l.path(name)); errors.Is(err, fs.ErrExist) {
			return nil
		}
	}
	if err != nil {
		return fmt.Errorf("writing %s: %w", l.dir, cause(err))
	}
	return nil
}

// begin starts a file that has its content already.
func (l *Layout) begin(content []byte) (*Writer, error) {
	w, err := l.Begin()
	if err != nil {
		return nil, err
	}
	if _, err := w.Write(content); err != nil {
		w.Abort()
		return nil, err
	}
	return w, nil
}

// cause drops the names of temporary files from an error.
func cause(err error) error {
	var path *fs.PathError
	var link *os.LinkError
	switch {
	case errors.As(err, &path):
		return path.Err
	case errors.As(err, &link):
		return link.Err
	}
	return err
}

// WriteFile replaces a file below the layout as one act.
func (l *Layout) WriteFile(name string, content []byte) error {
	w, err := l.begin(content)
	if err != nil {
		return err
	}
	return w.Rename(l.path(name))
}

// WriteQuick is WriteFile for what may be lost with the power: it is replaced as one act, and not waited for.
func (l *Layout) WriteQuick(name string, content []byte) error {
	w, err := l.begin(content)
	if err != nil {
		return err
	}
	w.quick = true
	return w.Rename(l.path(name))
}

// WritePrivate is WriteQuick for what nobody but the owner may read.
func (l *Layout) WritePrivate(name string, content []byte) error {
	w, err := l.begin(content)
	if err != nil {
		return err
	}
	w.quick, w.private = true, true
	return w.Rename(l.path(name))
}

// Writer is a file that becomes part of the layout when it is committed. Abort after that does nothing.
type Writer struct {
	file *os.File
	l    *Layout
	done bool
	// quick leaves it to the system when the file reaches the disk.
	quick   bool
	private bool // nobody but the owner may read the file
}

// Begin starts a blob whose digest the caller learns while writing it.
func (l *Layout) Begin() (*Writer, error) {
	f, err := os.CreateTemp(l.temp, ".new-*")
	if err != nil {
		return nil, fmt.Errorf("writing %s: %w", l.dir, cause(err))
	}
	return &Writer{file: f, l: l}, nil
}

// Write adds bytes.
func (w *Writer) Write(p []byte) (int, error) {
	n, err := w.file.Write(p)
	w.l.written.Add(int64(n))
	if err != nil {
		err = fmt.Errorf("writing %s: %w", w.l.dir, cause(err))
	}
	return n, err
}

// Commit keeps the blob under its digest. The caller vouches that the digest is that of the bytes written.
func (w *Writer) Commit(d digest.Digest) error {
	target, err := w.l.BlobPath(d)
	if err != nil {
		return err
	}
	if err := w.Rename(target); err != nil {
		return err
	}
	if w.l.Complete != nil {
		w.l.Complete(target, d)
	}
	return nil
}

// Rename keeps the file under a path of the layout's file system, as one act.
func (w *Writer) Rename(target string) error {
	w.done = true
	name := w.file.Name()
	mode := fs.FileMode(0o644)
	if w.private {
		mode = 0o600
	}
	err := w.file.Chmod(mode)
	if err == nil && !w.quick {
		err = w.l.sync(w.file)
	}
	if closeErr := w.file.Close(); err == nil {
		err = closeErr
	}
	if err == nil {
		err = os.MkdirAll(filepath.Dir(target), 0o755)
	}
	if err == nil {
		err = os.Rename(name, target)
	}
	if err == nil && !w.quick {
		err = syncFolder(filepath.Dir(target), w.l.sync)
	}
	if err != nil {
		os.Remove(name)
		return fmt.Errorf("writing %s: %w", w.l.dir, cause(err))
	}
	return nil
}

// Abort drops what was written.
func (w *Writer) Abort() {
	if w.done {
		return
	}
	w.done = true
	w.file.Close()
	os.Remove(w.file.Name())
}

// BlobPath is the file of a blob, whether it is there or not.
func (l *Layout) BlobPath(d digest.Digest) (string, error) {
	if err := d.Validate(); err != nil {
		return "", fmt.Errorf("%q is not a digest: %w", d, err)
	}
	return l.path("blobs", d.Algorithm().String(), d.Encoded()), nil
}

// Has reports whether a blob of that digest and size is there, and that somebody relies on it.
func (l *Layout) Has(desc digest.Descriptor) bool {
	path, there := l.find(desc)
	return there && (l.Use == nil || l.Use(path, desc.Digest))
}

// Lists reports whether there is a blob of that digest and size. Its bytes are not read, and nobody relies on it.
func (l *Layout) Lists(desc digest.Descriptor) bool {
	_, there := l.find(desc)
	return there
}

func (l *Layout) find(desc digest.Descriptor) (path string, there bool) {
	path, err := l.BlobPath(desc.Digest)
	if err != nil {
		return "", false
	}
	info, err := os.Stat(path)
	return path, err == nil && info.Mode().IsRegular() && info.Size() == desc.Size
}

// Put stores what r gives, refusing it where it is not what desc says.
func (l *Layout) Put(ctx context.Context, desc digest.Descriptor, r io.Reader) error {
	w, err := l.Begin()
	if err != nil {
		return err
	}
	defer w.Abort()
	if _, err := io.Copy(w, digest.WithContext(ctx, digest.Verify(r, desc))); err != nil {
		return err
	}
	return w.Commit(desc.Digest)
}

// PutBytes stores a small document and gives its descriptor.
func (l *Layout) PutBytes(mediaType string, content []byte) (digest.Descriptor, error) {
	desc := digest.Descriptor{MediaType: mediaType, Digest: digest.FromBytes(content), Size: int64(len(content))}
	if l.Has(desc) {
		return desc, nil
	}
	w, err := l.begin(content)
	if err != nil {
		return desc, err
	}
	return desc, w.Commit(desc.Digest)
}

// Fetch opens a blob; reading it to the end verifies it.
func (l *Layout) Fetch(ctx context.Context, desc digest.Descriptor) (io.ReadCloser, error) {
	path, err := l.BlobPath(desc.Digest)
	if err != nil {
		return nil, err
	}
	f, err := openRegular(path)
	if errors.Is(err, fs.ErrNotExist) && l.Absent != nil {
		tried, bringErr := l.Absent(ctx, desc)
		if bringErr != nil {
			return nil, bringErr
		}
		if tried {
			f, err = openRegular(path)
		}
	}
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("the blob %s is %w", desc.Digest, ErrNotFound)
	}
	if err != nil {
		return nil, fmt.Errorf("reading %s: %w", l.dir, err)
	}
	if l.Admit != nil {
		if err := l.Admit(ctx, desc); err != nil {
			f.Close()
			return nil, err
		}
	}
	verified := digest.Verify(f, desc)
	if l.private {
		verified = advising{verified}
	}
	return struct {
		io.Reader
		io.Closer
	}{verified, f}, nil
}

// advising tells what to do about a blob of the store that is not what its name says.
type advising struct{ io.Reader }

func (a advising) Read(p []byte) (int, error) {
	n, err := a.Reader.Read(p)
	if errors.Is(err, digest.ErrMismatch) {
		err = fmt.Errorf("%w; it was changed in the store: build or pull again, and `imbricat store check --repair` looks for more", err)
	}
	return n, err
}

// openRegular opens a file; a pipe, in a folder from elsewhere, would be waited at for ever.
func openRegular(path string) (*os.File, error) {
	f, err := files.OpenRegular(path)
	if errors.Is(err, files.ErrNotRegular) {
		err = fmt.Errorf("%s is not a file", path)
	}
	return f, err
}

// locked runs act while no other process or goroutine changes the layout's names.
func (l *Layout) locked(ctx context.Context, act func() error) error {
	l.turn.Lock() // among this process's own, who need not ask again and again
	defer l.turn.Unlock()
	lock := flock.New(l.path(v1.ImageLayoutFile))
	if _, err := lock.TryLockContext(ctx, 20*time.Millisecond); err != nil {
		return fmt.Errorf("locking %s: %w", l.dir, err)
	}
	defer lock.Close()
	return act()
}

// maxIndex bounds the list of names, in bytes.
const maxIndex = 64 << 20

func (l *Layout) readIndex() (*v1.Index, error) {
	f, err := os.Open(l.path(v1.ImageIndexFile))
	if err != nil {
		return nil, fmt.Errorf("reading %s: %w", l.dir, err)
	}
	defer f.Close()
	text, err := io.ReadAll(io.LimitReader(f, maxIndex))
	if err != nil {
		return nil, fmt.Errorf("reading %s: %w", l.dir, err)
	}
	var index v1.Index
	if err := json.Unmarshal(text, &index); err != nil {
		mend := ""
		if l.private {
			mend = "; `imbricat store check --repair` lists the images again"
		}
		return nil, fmt.Errorf("%s is damaged (%w)%s", l.path(v1.ImageIndexFile), err, mend)
	}
	return &index, nil
}

// Named is an image that the layout lists. Name may be empty: kept, known by its digest alone.
type Named struct {
	Name       string
	Project    string    // that made it and gave the name; empty: nobody's
	Since      time.Time // when it got the name; zero: unknown
	Descriptor digest.Descriptor
}

// Annotations of a private layout's list of names.
const (
	projectKey = "dev.imbricat.project"
	sinceKey   = "dev.imbricat.since"
)

// namedOf reads an entry of the list of names.
func namedOf(m v1.Descriptor) Named {
	n := Named{Name: m.Annotations[v1.AnnotationRefName], Project: m.Annotations[projectKey]}
	if since, err := time.Parse(time.RFC3339, m.Annotations[sinceKey]); err == nil {
		n.Since = since
	}
	m.Annotations = nil
	n.Descriptor = m
	return n
}

// String is the name, or the digest of an image without one.
func (n Named) String() string {
	if n.Name == "" {
		return string(n.Descriptor.Digest)
	}
	return n.Name
}

// List returns the images, sorted by name.
func (l *Layout) List() ([]Named, error) {
	index, err := l.readIndex()
	if err != nil {
		return nil, err
	}
	list := make([]Named, 0, len(index.Manifests))
	for _, m := range index.Manifests {
		list = append(list, namedOf(m))
	}
	slices.SortFunc(list, func(a, b Named) int {
		return cmp.Or(strings.Compare(a.Name, b.Name), strings.Compare(a.Project, b.Project), strings.Compare(string(a.Descriptor.Digest), string(b.Descriptor.Digest)))
	})
	return list, nil
}

// Name makes name stand for an image, as nobody's. An empty name keeps the image under its digest.
func (l *Layout) Name(ctx context.Context, name string, desc digest.Descriptor) error {
	return l.NameOf(ctx, "", name, desc)
}

// NameOf makes a project's name stand for an image. Other projects' images of that name keep theirs. A name that stands for it already is not
// given anew.
func (l *Layout) NameOf(ctx context.Context, project, name string, desc digest.Descriptor) error {
	if l.standsFor(project, name, desc) {
		return nil
	}
	return l.locked(ctx, func() error {
		index, err := l.readIndex()
		if err != nil {
			return err
		}
		index.Manifests = slices.DeleteFunc(index.Manifests, func(m v1.Descriptor) bool {
			old := namedOf(m)
			return old.Name == name && old.Project == project && (name != "" || m.Digest == desc.Digest)
		})
		entry := digest.Descriptor{MediaType: desc.MediaType, Digest: desc.Digest, Size: desc.Size, ArtifactType: desc.ArtifactType, Platform: desc.Platform}
		entry.Annotations = map[string]string{}
		if name != "" {
			entry.Annotations[v1.AnnotationRefName] = name
		}
		if project != "" {
			entry.Annotations[projectKey] = project
		}
		if l.private { // layouts that are given away hold no clock
			entry.Annotations[sinceKey] = time.Now().UTC().Format(time.RFC3339)
		}
		index.Manifests = append(index.Manifests, entry)
		return l.writeIndex(index)
	})
}

// readNames is the list of names as a file had it, for who asks for many of them.
type readNames struct {
	file   fs.FileInfo
	byName map[string][]v1.Descriptor
}

// settles is how long after it was written a file shows by its times that it was written again.
const settles = 2 * time.Second

// standsFor reports whether a project's name stands for an image.
func (l *Layout) standsFor(project, name string, desc digest.Descriptor) bool {
	file, err := os.Stat(l.path(v1.ImageIndexFile))
	if err != nil {
		return false
	}
	read := l.names.Load()
	if read == nil || !os.SameFile(read.file, file) || !read.file.ModTime().Equal(file.ModTime()) || read.file.Size() != file.Size() {
		index, err := l.readIndex()
		if err != nil {
			return false
		}
		read = &readNames{file, map[string][]v1.Descriptor{}}
		for _, m := range index.Manifests {
			name := m.Annotations[v1.AnnotationRefName]
			read.byName[name] = append(read.byName[name], m)
		}
		if time.Since(file.ModTime()) > settles {
			l.names.Store(read)
		}
	}
	return slices.ContainsFunc(read.byName[name], func(m v1.Descriptor) bool {
		old := namedOf(m)
		return old.Project == project && sameImage(m, desc) && (old.Since.IsZero() != l.private)
	})
}

func sameImage(a, b digest.Descriptor) bool {
	return a.Digest == b.Digest && a.Size == b.Size && a.MediaType == b.MediaType && a.ArtifactType == b.ArtifactType && reflect.DeepEqual(a.Platform, b.Platform)
}

// Drop takes names away, and gives back those that were there. Of images without a name the digest counts.
func (l *Layout) Drop(ctx context.Context, drop func(Named) bool) ([]Named, error) {
	var dropped []Named
	err := l.locked(ctx, func() error {
		index, err := l.readIndex()
		if err != nil {
			return err
		}
		index.Manifests = slices.DeleteFunc(index.Manifests, func(m v1.Descriptor) bool {
			one := namedOf(m)
			if !drop(one) {
				return false
			}
			dropped = append(dropped, one)
			return true
		})
		if len(dropped) == 0 {
			return nil
		}
		return l.writeIndex(index)
	})
	return dropped, err
}

func (l *Layout) writeIndex(index *v1.Index) error {
	text, err := json.MarshalIndent(index, "", " ")
	if err != nil {
		return err
	}
	return l.WriteFile(v1.ImageIndexFile, append(text, '\n'))
}

// AmbiguousError says that several projects have an image of a name, and nothing tells whose is meant.
type AmbiguousError struct {
	Name  string
	Among []Named
}

func (e *AmbiguousError) Error() string {
	var whose []string
	for _, n := range e.Among {
		who := n.Project
		if who == "" {
			who = "no project"
		}
		whose = append(whose, fmt.Sprintf("%s (of %s)", digest.Short(n.Descriptor.Digest), who))
	}
	return fmt.Sprintf("%d images are named %q: %s; name one by its digest, or its project by --dir", len(e.Among), e.Name, strings.Join(whose, ", "))
}

// Lookup finds an image by its name: the project's own before all others. What is nobody's may stand for one of the
// project's images that is not there; what another project made never does. The error is an *AmbiguousError where several
// projects have different ones.
func (l *Layout) Lookup(name string) (digest.Descriptor, error) {
	list, err := l.List()
	if err != nil {
		return digest.Descriptor{}, err
	}
	mine := l.Mine != nil && l.Mine(name)
	var found []Named
	for _, n := range list {
		switch {
		case n.Name != name:
		case n.Project != "" && n.Project == l.Project:
			return n.Descriptor, nil
		case n.Project == "" || !mine:
			found = append(found, n)
		}
	}
	if len(found) == 0 {
		return digest.Descriptor{}, fmt.Errorf("the image %q is %w", name, ErrNotFound)
	}
	for _, n := range found[1:] {
		if n.Descriptor.Digest != found[0].Descriptor.Digest {
			return digest.Descriptor{}, &AmbiguousError{name, found}
		}
	}
	return found[0].Descriptor, nil
}

// LookupOf finds the image that a project made under a name, and no other.
func (l *Layout) LookupOf(project, name string) (digest.Descriptor, error) {
	list, err := l.List()
	if err != nil {
		return digest.Descriptor{}, err
	}
	for _, n := range list {
		if n.Name == name && n.Project == project {
			return n.Descriptor, nil
		}
	}
	return digest.Descriptor{}, fmt.Errorf("the image %q is %w", name, ErrNotFound)
}

// LookupPrefix finds a manifest or an index by the first hexadecimal digits of its digest.
func (l *Layout) LookupPrefix(digits string) (digest.Descriptor, error) {
	entries, err := os.ReadDir(l.path("blobs", "sha256"))
	if err != nil {
		return digest.Descriptor{}, fmt.Errorf("reading %s: %w", l.dir, err)
	}
	var found []digest.Descriptor
	for _, e := range entries {
		if !strings.HasPrefix(e.Name(), digits) {
			continue
		}
		if desc, ok := l.Document(digest.Digest("sha256:" + e.Name())); ok {
			found = append(found, desc)
		}
	}
	switch len(found) {
	case 0:
		return digest.Descriptor{}, fmt.Errorf("no image whose digest starts with %q is there: %w", digits, ErrNotFound)
	case 1:
		return found[0], nil
	}
	return digest.Descriptor{}, fmt.Errorf("%d images have digests that start with %q: give more digits", len(found), digits)
}

// maxDocument bounds manifests and indexes, in bytes, as registries do.
const maxDocument = 4 << 20

// Document returns the descriptor of a blob that is a manifest or an index.
func (l *Layout) Document(d digest.Digest) (digest.Descriptor, bool) {
	path, err := l.BlobPath(d)
	if err != nil {
		return digest.Descriptor{}, false
	}
	info, err := os.Stat(path)
	if err != nil || info.Size() > maxDocument {
		return digest.Descriptor{}, false
	}
	text, err := os.ReadFile(path)
	if err != nil {
		return digest.Descriptor{}, false
	}
	var kind struct {
		MediaType string            `json:"mediaType"`
		Manifests []json.RawMessage `json:"manifests"`
		Layers    []json.RawMessage `json:"layers"`
	}
	if json.Unmarshal(text, &kind) != nil || kind.Manifests == nil && kind.Layers == nil {
		return digest.Descriptor{}, false
	}
	if kind.MediaType == "" {
		kind.MediaType = v1.MediaTypeImageManifest
		if kind.Manifests != nil {
			kind.MediaType = v1.MediaTypeImageIndex
		}
	}
	return digest.Descriptor{MediaType: kind.MediaType, Digest: d, Size: info.Size()}, true
}
