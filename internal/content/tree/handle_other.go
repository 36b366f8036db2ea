//go:build !linux

package tree

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
)

// rooted is a folder that cannot be left, on systems where we have nothing faster.
type rooted struct{ *os.Root }

// folder opens a folder of the project. Links on the way are followed inside the project.
func (s *Source) folder(p string) (handle, error) {
	if p == "" {
		p = "."
	}
	root, err := s.root.OpenRoot(filepath.FromSlash(p))
	if err != nil {
		return nil, fmt.Errorf("reading %q: %w", p, plain(err))
	}
	return rooted{root}, nil
}

func (r rooted) close() { r.Root.Close() }

func (r rooted) names() ([]string, error) {
	f, err := r.Open(".")
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return f.Readdirnames(-1)
}

func (r rooted) lookup(name string) (found, error) {
	info, err := r.Lstat(name)
	if err != nil {
		return found{}, err
	}
	f := found{mode: permissions(info.Mode()), stat: statOf(info)}
	switch mode := info.Mode(); {
	case mode.IsRegular():
		f.kind, f.twin = File, twinOf(info)
	case mode.IsDir():
		f.kind = Folder
	case mode&fs.ModeSymlink != 0:
		f.kind = Symlink
	}
	return f, nil
}

func permissions(mode fs.FileMode) uint32 {
	bits := uint32(mode.Perm())
	for flag, bit := range map[fs.FileMode]uint32{fs.ModeSetuid: 0o4000, fs.ModeSetgid: 0o2000, fs.ModeSticky: 0o1000} {
		if mode&flag != 0 {
			bits |= bit
		}
	}
	return bits
}

func statOf(info fs.FileInfo) Stat {
	s := Stat{Size: info.Size(), ModTime: info.ModTime().UnixNano()}
	s.system(info)
	return s
}

func (r rooted) readlink(name string) (string, error) { return r.Readlink(name) }

func (r rooted) folder(name string) (handle, error) {
	below, err := r.OpenRoot(name)
	return rooted{below}, err
}

func (r rooted) xattrs(string, func(string) bool) (map[string]string, error) {
	return nil, errors.New("they are not read on this system")
}

// SourceFile is an open file of the project folder.
type SourceFile struct{ file *os.File }

// Read reads on.
func (f *SourceFile) Read(p []byte) (int, error) { return f.file.Read(p) }

// Stat tells what the file is like now.
func (f *SourceFile) Stat() (Stat, error) {
	info, err := f.file.Stat()
	if err != nil {
		return Stat{}, plain(err)
	}
	return statOf(info), nil
}

// Close lets the file go.
func (f *SourceFile) Close() error { return f.file.Close() }

// Opener opens files of a project folder. It is for one goroutine.
type Opener struct{ source *Source }

// Open opens a regular file by its path and tells what it is like at that moment.
func (o *Opener) Open(p string) (*SourceFile, Stat, error) {
	opened.Add(1)
	f, err := o.source.root.Open(filepath.FromSlash(p))
	if err != nil {
		return nil, Stat{}, fmt.Errorf("reading %q: %w", p, plain(err))
	}
	info, err := f.Stat()
	if err != nil || !info.Mode().IsRegular() {
		f.Close()
		return nil, Stat{}, fmt.Errorf("reading %q: it is no longer a regular file", p)
	}
	return &SourceFile{f}, statOf(info), nil
}

// Close lets go of what is open.
func (o *Opener) Close() {}
