// Package credential keeps the logins of registries and where their secrets come from.
//
// A Secret never shows itself: printing, logging or encoding it by accident gives dots. Secrets stand in one file that
// only its owner can read.
package credential

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"sort"
)

// Secret is a password or a token.
type Secret string

// String hides the secret.
func (Secret) String() string { return "•••" }

// GoString hides the secret.
func (Secret) GoString() string { return "•••" }

// MarshalText hides the secret from encoders.
func (Secret) MarshalText() ([]byte, error) { return []byte("•••"), nil }

// Reveal gives the secret itself, for the one place that sends it.
func (s Secret) Reveal() string { return string(s) }

// Login is a user's name with the secret.
type Login struct {
	User   string
	Secret Secret
}

// Given tells whether there is a login at all.
func (l Login) Given() bool { return l.User != "" || l.Secret != "" }

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
	dir := filepath.Dir(f.path)
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return fmt.Errorf("keeping credentials: %w", err)
	}
	temp, err := os.CreateTemp(dir, ".new-*") // made with mode 0600
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

// Find gives the login for a registry host (with its port); without one it is empty.
func (f *File) Find(host string) (Login, error) {
	d, err := f.read()
	if err != nil {
		return Login{}, err
	}
	s := d.Registries[host]
	return Login{s.User, Secret(s.Secret)}, nil
}

// Keep stores a login.
func (f *File) Keep(host string, l Login) error {
	d, err := f.read()
	if err != nil {
		return err
	}
	d.Registries[host] = stored{l.User, l.Secret.Reveal()}
	return f.write(d)
}

// Forget removes a login and tells whether there was one.
func (f *File) Forget(host string) (bool, error) {
	d, err := f.read()
	if err != nil {
		return false, err
	}
	if _, known := d.Registries[host]; !known {
		return false, nil
	}
	delete(d.Registries, host)
	return true, f.write(d)
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
