package main

import (
	"archive/tar"
	"archive/zip"
	"cmp"
	"compress/gzip"
	"crypto/sha256"
	"encoding/gob"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"

	"golang.org/x/mod/semver"
)

// A history is the published versions of a package, oldest first.
type history struct {
	Name     string
	Versions []version
}

// A version is the files of a package as they were published.
type version struct {
	Name  string
	Files []file
}

// A file is one of a package. Content is a digest of its bytes.
type file struct {
	Path    string
	Size    int64
	Content [sha256.Size]byte
}

// load returns the last versions of a package, from the cache or through the client of its registry. The name tells which:
// npm:NAME or go:MODULE.
func load(cache, name string, count int) (*history, error) {
	kept := filepath.Join(cache, strings.NewReplacer("/", "_", ":", "_").Replace(name)+fmt.Sprintf(".%d", count))
	if h, err := read(kept); err == nil {
		return h, nil
	}
	kind, pkg, _ := strings.Cut(name, ":")
	list, get := npmVersions, npmVersion
	if kind == "go" {
		list, get = goVersions, goVersion
	}
	versions, err := list(pkg)
	if err != nil {
		return nil, err
	}
	h := &history{Name: name}
	for _, v := range versions[max(0, len(versions)-count):] {
		work, err := os.MkdirTemp("", "replay-")
		if err != nil {
			return nil, err
		}
		files, err := get(pkg, v, work)
		os.RemoveAll(work)
		if err != nil {
			return nil, fmt.Errorf("%s %s: %w", name, v, err)
		}
		slices.SortFunc(files, func(a, b file) int { return cmp.Compare(a.Path, b.Path) })
		h.Versions = append(h.Versions, version{v, files})
	}
	return h, write(kept, h)
}

func read(path string) (*history, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	h := &history{}
	return h, gob.NewDecoder(f).Decode(h)
}

func write(path string, h *history) error {
	f, err := os.CreateTemp(filepath.Dir(path), "new-")
	if err != nil {
		return err
	}
	defer os.Remove(f.Name())
	if err := errors.Join(gob.NewEncoder(f).Encode(h), f.Close()); err != nil {
		return err
	}
	return os.Rename(f.Name(), path)
}

func run(dir string, name string, args ...string) ([]byte, error) {
	cmd := exec.Command(name, args...)
	cmd.Dir, cmd.Stderr = dir, os.Stderr
	return cmd.Output()
}

// released keeps the versions that are no pre-releases, in their order.
func released(list []string, prefix string) []string {
	list = slices.DeleteFunc(list, func(v string) bool { return !semver.IsValid(prefix+v) || semver.Prerelease(prefix+v) != "" })
	slices.SortFunc(list, func(a, b string) int { return semver.Compare(prefix+a, prefix+b) })
	return list
}

func npmVersions(pkg string) ([]string, error) {
	text, err := run("", "npm", "view", pkg, "versions", "--json")
	if err != nil {
		return nil, err
	}
	var list []string
	err = json.Unmarshal(text, &list)
	return released(list, "v"), err
}

func npmVersion(pkg, v, work string) ([]file, error) {
	text, err := run(work, "npm", "pack", pkg+"@"+v, "--silent")
	if err != nil {
		return nil, err
	}
	f, err := os.Open(filepath.Join(work, strings.TrimSpace(string(text))))
	if err != nil {
		return nil, err
	}
	defer f.Close()
	plain, err := gzip.NewReader(f)
	if err != nil {
		return nil, err
	}
	var files []file
	for archive := tar.NewReader(plain); ; {
		h, err := archive.Next()
		if err == io.EOF {
			return files, nil
		}
		if err != nil {
			return nil, err
		}
		if h.Typeflag == tar.TypeReg {
			one, err := digest(h.Name, archive)
			if err != nil {
				return nil, err
			}
			files = append(files, one)
		}
	}
}

// digest reads a file of an archive, whose first folder names the package.
func digest(name string, body io.Reader) (file, error) {
	_, path, _ := strings.Cut(name, "/")
	one := file{Path: path}
	sum := sha256.New()
	n, err := io.Copy(sum, body)
	one.Size = n
	sum.Sum(one.Content[:0])
	return one, err
}

func goVersions(pkg string) ([]string, error) {
	text, err := run(os.TempDir(), "go", "list", "-m", "-versions", "-json", pkg)
	if err != nil {
		return nil, err
	}
	var module struct{ Versions []string }
	if err := json.Unmarshal(text, &module); err != nil {
		return nil, err
	}
	return released(module.Versions, ""), nil
}

func goVersion(pkg, v, work string) ([]file, error) {
	cmd := exec.Command("go", "mod", "download", "-json", pkg+"@"+v)
	cmd.Dir, cmd.Env = work, append(os.Environ(), "GOMODCACHE="+work, "GOFLAGS=-modcacherw", "GONOSUMDB=*", "GONOSUMCHECK=1")
	text, err := cmd.Output()
	if err != nil {
		return nil, fmt.Errorf("%w: %s", err, text)
	}
	var module struct{ Zip string }
	if err := json.Unmarshal(text, &module); err != nil {
		return nil, err
	}
	archive, err := zip.OpenReader(module.Zip)
	if err != nil {
		return nil, err
	}
	defer archive.Close()
	var files []file
	for _, f := range archive.File {
		body, err := f.Open()
		if err != nil {
			return nil, err
		}
		// pkg@version/…: the name of the module may have slashes of its own.
		_, inner, _ := strings.Cut(f.Name, "@")
		one, err := digest(inner, body)
		if err := errors.Join(err, body.Close()); err != nil {
			return nil, err
		}
		files = append(files, one)
	}
	return files, nil
}
