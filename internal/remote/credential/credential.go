// Package credential keeps the logins of registries and where their secrets come from: the environment, one file that only
// its owner can read, or a program that is asked.
//
// A Secret never shows itself: printing, logging or encoding it by accident gives dots. It never stands in the arguments of
// a program.
package credential

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"sort"
	"strings"

	"github.com/gofrs/flock"
)

// Secret is a password or a token.
type Secret string

// String hides the secret.
func (Secret) String() string { return "•••" }

// GoString hides the secret.
func (Secret) GoString() string { return "•••" }

// MarshalText hides the secret from encoders.
func (Secret) MarshalText() ([]byte, error) { return []byte("•••"), nil }

// Reveal returns the secret itself, for the one place that sends it.
func (s Secret) Reveal() string { return string(s) }

// Login is a user's name with the secret, or a token.
type Login struct {
	User   string
	Secret Secret
	Token  Secret // to be sent as it is, instead of a name with a secret
	// Issuer is the address of the issuer of tokens that the login may be sent to besides the registry itself, SCHEME://HOST:
	// one that was confirmed at login, or that the settings name; "" where there is none.
	Issuer string
	// Confirms tells that the login is being checked on a person's word: it may be sent to whatever issuer the registry
	// names, which is noted.
	Confirms bool
}

// Given reports whether there is a login at all.
func (l Login) Given() bool { return l.User != "" || l.Secret != "" || l.Token != "" }

// File is the file that holds logins.
type File struct{ path string }

// OpenFile names the file; it need not exist.
func OpenFile(path string) *File { return &File{path} }

// Path is where the file is.
func (f *File) Path() string { return f.path }

type document struct {
	Registries map[string]stored `json:"registries"`
}

type stored struct {
	User   string `json:"user"`
	Secret string `json:"secret"`
	Issuer string `json:"issuer,omitempty"`
}

func (f *File) read() (document, error) {
	d := document{Registries: map[string]stored{}}
	text, err := os.ReadFile(f.path)
	if errors.Is(err, fs.ErrNotExist) {
		return d, nil
	}
	if err != nil {
		return d, fmt.Errorf("reading credentials: %w", err)
	}
	if info, err := os.Stat(f.path); err == nil && runtime.GOOS != "windows" && info.Mode().Perm()&0o077 != 0 {
		return d, fmt.Errorf("the credentials in %s can be read by others: run chmod 600 on it", f.path)
	}
	if err := json.Unmarshal(text, &d); err != nil || d.Registries == nil {
		return d, fmt.Errorf("the credentials in %s are damaged; log in again after removing the file", f.path)
	}
	return d, nil
}

// write replaces the file as one act; it never exists with wider rights.
func (f *File) write(d document) error {
	text, err := json.MarshalIndent(d, "", "  ")
	if err != nil {
		return err
	}
	temp, err := os.CreateTemp(filepath.Dir(f.path), ".new-*") // made with mode 0600
	if err != nil {
		return fmt.Errorf("keeping credentials: %w", err)
	}
	defer os.Remove(temp.Name())
	_, err = temp.Write(append(text, '\n'))
	if err == nil {
		err = temp.Sync()
	}
	if closeErr := temp.Close(); err == nil {
		err = closeErr
	}
	if err == nil {
		err = os.Rename(temp.Name(), f.path)
	}
	if err != nil {
		return fmt.Errorf("keeping credentials: %w", err)
	}
	return nil
}

// Find returns the login for a repository of a registry host (with its port): the one kept for the longest part of
// HOST/REPOSITORY. Without one it is empty.
func (f *File) Find(_ context.Context, host, repository string) (Login, error) {
	d, err := f.read()
	if err != nil {
		return Login{}, err
	}
	s, _ := Longest(d.Registries, host, repository)
	return Login{User: s.User, Secret: Secret(s.Secret), Issuer: s.Issuer}, nil
}

// Issuer implements Confirmed.
func (f *File) Issuer(host, repository string) string {
	d, err := f.read()
	if err != nil {
		return ""
	}
	s, _ := Longest(d.Registries, host, repository)
	return s.Issuer
}

// Longest gives what stands under the longest part of HOST/REPOSITORY, cut at slashes.
func Longest[T any](all map[string]T, host, repository string) (T, bool) {
	for name := strings.TrimSuffix(host+"/"+repository, "/"); ; {
		if one, is := all[name]; is {
			return one, true
		}
		cut := strings.LastIndexByte(name, '/')
		if cut < 0 {
			var none T
			return none, false
		}
		name = name[:cut]
	}
}

// change reads, changes and writes the file while no other process does.
func (f *File) change(change func(d *document) bool) error {
	if err := os.MkdirAll(filepath.Dir(f.path), 0o700); err != nil {
		return fmt.Errorf("keeping credentials: %w", err)
	}
	lock := flock.New(f.path + ".lock")
	if err := lock.Lock(); err != nil {
		return fmt.Errorf("keeping credentials: %w", err)
	}
	defer lock.Unlock()
	d, err := f.read()
	if err != nil || !change(&d) {
		return err
	}
	return f.write(d)
}

// Keep stores a login for a registry host, or for HOST/PREFIX of repositories.
func (f *File) Keep(place string, l Login) error {
	return f.change(func(d *document) bool {
		d.Registries[place] = stored{l.User, l.Secret.Reveal(), l.Issuer}
		return true
	})
}

// Forget removes a login and tells whether there was one.
func (f *File) Forget(place string) (known bool, err error) {
	err = f.change(func(d *document) bool {
		_, known = d.Registries[place]
		delete(d.Registries, place)
		return known
	})
	return known, err
}

// Hosts lists the registries that there are logins for.
func (f *File) Hosts() ([]string, error) {
	d, err := f.read()
	if err != nil {
		return nil, err
	}
	var hosts []string
	for host := range d.Registries {
		hosts = append(hosts, host)
	}
	sort.Strings(hosts)
	return hosts, nil
}
