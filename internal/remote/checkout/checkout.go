// Package checkout brings a revision of a git repository elsewhere into a folder of this machine, as a clean clone would have it: with the
// history and the tags, which date and name images.
//
// It runs no hook, no filter and no program of the repository, changes nothing there, and sends logins nowhere but to the host that they are for.
package checkout

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/go-git/go-git/v5"
	"github.com/go-git/go-git/v5/config"
	"github.com/go-git/go-git/v5/plumbing"
	"github.com/go-git/go-git/v5/plumbing/filemode"
	"github.com/go-git/go-git/v5/plumbing/transport"
	githttp "github.com/go-git/go-git/v5/plumbing/transport/http"
	"github.com/go-git/go-git/v5/plumbing/transport/ssh"
	"github.com/go-git/go-git/v5/storage/memory"
	"github.com/gofrs/flock"

	"imbricat/internal/ground/digest"
	"imbricat/internal/remote/credential"
)

// Options say what is brought where.
type Options struct {
	Address  string // a local path, https://HOST/PATH, ssh://USER@HOST/PATH, USER@HOST:PATH, git://HOST/PATH
	Revision string // a branch, a tag or a commit
	// Cache is the folder that repositories are kept in, each once.
	Cache  string
	Logins credential.Source // for https
	Home   string            // of the user, for keys of ssh
	// Waits is told where another process works on the same repository.
	Waits func()
}

// Tree is what was brought. It stays as it is until it is closed.
type Tree struct {
	Dir        string
	Commit     string
	Submodules []string // folders that stay empty
	Pointers   []string // files that only tell where their bytes are
	lock       *flock.Flock
}

// Close lets others bring another revision.
func (t *Tree) Close() error { return t.lock.Unlock() }

// Errors that callers tell apart.
var (
	ErrAddress  = errors.New("this is no address of a repository")
	ErrRevision = errors.New("the repository has no such branch, tag or commit")
	// ErrDenied is that the other side wants a login, or does not take the one that it was given.
	ErrDenied = errors.New("the repository does not let this login in, or wants one")
)

// Bring brings a revision. What is there already is not fetched again; a commit that is there by its whole name needs no connection at all.
func Bring(ctx context.Context, o Options) (_ *Tree, err error) {
	address, err := check(o.Address)
	if err != nil {
		return nil, err
	}
	dir := filepath.Join(o.Cache, digest.FromBytes([]byte(address)).Encoded()[:32])
	if err := os.MkdirAll(o.Cache, 0o700); err != nil {
		return nil, err
	}
	t := &Tree{Dir: dir, lock: flock.New(dir + ".lock")}
	if taken, err := t.lock.TryLock(); err != nil {
		return nil, err
	} else if !taken {
		o.Waits()
		if _, err := t.lock.TryLockContext(ctx, 200*time.Millisecond); err != nil {
			return nil, err
		}
	}
	defer func() {
		if err != nil {
			err = errors.Join(err, t.lock.Unlock())
		}
	}()
	if err = bring(ctx, o, address, t); errors.Is(err, errKept) {
		// What is kept is a copy: a damaged one is made anew.
		if err = os.RemoveAll(dir); err == nil {
			err = bring(ctx, o, address, t)
		}
	}
	return t, err
}

// errKept is that the repository that is kept cannot be read.
var errKept = errors.New("the repository that is kept is damaged")

func bring(ctx context.Context, o Options, address string, t *Tree) error {
	repo, err := open(t.Dir, address)
	if err != nil {
		return err
	}
	return (&bringing{o: o, address: address, repo: repo, tree: t}).bring(ctx)
}

// check returns an address as it is kept. Passwords have their own place.
func check(address string) (string, error) {
	if info, err := os.Stat(address); err == nil && info.IsDir() {
		return filepath.Abs(address)
	}
	e, err := transport.NewEndpoint(address)
	if err == nil && address != "" && e.Protocol == "file" {
		if info, err := os.Stat(e.Path); err == nil && info.IsDir() {
			return filepath.Abs(e.Path)
		}
	}
	switch {
	case err != nil || address == "":
		return "", fmt.Errorf("%q: %w", address, ErrAddress)
	case e.Password != "":
		return "", fmt.Errorf("%w, since it holds a password: the environment or a program of the settings tells the login for %s", ErrAddress, e.Host)
	case e.Protocol == "file":
		return "", fmt.Errorf("there is no folder %s, and %w", e.Path, ErrAddress)
	case !slices.Contains([]string{"https", "http", "ssh", "git"}, e.Protocol):
		return "", fmt.Errorf("%q: %s is not understood: %w", address, e.Protocol, ErrAddress)
	}
	return address, nil
}

// open opens the repository that is kept, or makes an empty one.
func open(dir, address string) (*git.Repository, error) {
	repo, err := git.PlainOpen(dir)
	if errors.Is(err, git.ErrRepositoryNotExists) {
		if err := os.RemoveAll(dir); err != nil { // begun and not finished
			return nil, err
		}
		repo, err = git.PlainInit(dir, false)
	}
	if err != nil {
		return nil, fmt.Errorf("opening the repository in %s: %w (%w)", dir, err, errKept)
	}
	begun, err := filepath.Glob(filepath.Join(dir, git.GitDirName, "objects", "pack", "tmp_*"))
	for _, name := range begun { // by a run that was killed; nobody else has the lock
		err = errors.Join(err, os.Remove(name))
	}
	if err != nil {
		return nil, err
	}
	_, err = repo.CreateRemote(&config.RemoteConfig{Name: "origin", URLs: []string{address}})
	if errors.Is(err, git.ErrRemoteExists) {
		err = nil
	}
	return repo, err
}

type bringing struct {
	o       Options
	address string
	repo    *git.Repository
	tree    *Tree
}

func (b *bringing) bring(ctx context.Context) error {
	commit, branch, err := b.resolve(ctx)
	if err != nil {
		return err
	}
	b.tree.Commit = commit.String()
	if err := b.lay(commit, branch); err != nil {
		return fmt.Errorf("laying %s of %s down: %w (%w)", b.o.Revision, b.address, err, errKept)
	}
	return b.notice()
}

// everything is fetched but what is there: all branches and tags, as a clone has them.
var everything = []config.RefSpec{"+refs/heads/*:refs/remotes/origin/*", "+refs/tags/*:refs/tags/*"}

// resolve finds the commit, and the branch where the revision is one.
func (b *bringing) resolve(ctx context.Context) (commit plumbing.Hash, branch string, err error) {
	whole := plumbing.IsHash(b.o.Revision)
	if whole {
		commit = plumbing.NewHash(b.o.Revision)
		if _, err := b.repo.CommitObject(commit); err == nil {
			return commit, "", nil
		}
	}
	if err := b.fetch(ctx, everything); err != nil {
		return commit, "", err
	}
	for _, name := range []string{"refs/remotes/origin/" + b.o.Revision, "refs/tags/" + b.o.Revision} {
		full := plumbing.ReferenceName(name)
		if b.o.Revision == "" || full.Validate() != nil {
			continue
		}
		if _, err := b.repo.Reference(full, true); err != nil {
			continue
		}
		found, err := b.repo.ResolveRevision(plumbing.Revision(name))
		if err != nil {
			return commit, "", fmt.Errorf("reading %s of %s: %w (%w)", b.o.Revision, b.address, err, errKept)
		}
		if strings.HasPrefix(name, "refs/remotes/") {
			branch = b.o.Revision
		}
		return *found, branch, nil
	}
	if whole {
		if _, err := b.repo.CommitObject(commit); err == nil {
			return commit, "", nil
		}
		// One that no branch leads to, if the other side gives it.
		name := config.RefSpec(b.o.Revision + ":refs/imbricat/" + b.o.Revision)
		if err := b.fetch(ctx, []config.RefSpec{name}); err == nil {
			if _, err := b.repo.CommitObject(commit); err == nil {
				return commit, "", nil
			}
		}
	}
	if short := strings.Trim(b.o.Revision, "0123456789abcdef") == "" && len(b.o.Revision) >= 7; short {
		if found, err := b.repo.ResolveRevision(plumbing.Revision(b.o.Revision)); err == nil {
			return *found, "", nil
		}
	}
	return commit, "", fmt.Errorf("%s of %s: %w", b.o.Revision, b.address, ErrRevision)
}

func (b *bringing) fetch(ctx context.Context, what []config.RefSpec) error {
	auth, err := b.auth(ctx)
	if err != nil {
		return err
	}
	err = b.repo.FetchContext(ctx, &git.FetchOptions{RemoteURL: b.address, RefSpecs: what, Auth: auth, Tags: git.NoTags, Force: true, Prune: len(what) > 1})
	switch {
	case errors.Is(err, git.NoErrAlreadyUpToDate), errors.Is(err, transport.ErrEmptyRemoteRepository):
		return nil
	case errors.Is(err, plumbing.ErrObjectNotFound):
		return fmt.Errorf("fetching %s: %w (%w)", b.address, err, errKept)
	case err != nil:
		return fmt.Errorf("fetching %s: %w", b.address, denied(err))
	}
	return nil
}

// denied tells what a refusal of the other side is. It says the same of a repository that is not there.
func denied(err error) error {
	if errors.Is(err, transport.ErrAuthenticationRequired) || errors.Is(err, transport.ErrAuthorizationFailed) {
		return fmt.Errorf("%w (%w)", ErrDenied, err)
	}
	return err
}

// Ask asks for what a repository has, with a login, and reports whether it was asked for one: a repository that anybody may read tells nothing of a
// login. The address is one that logins are sent to: https, or http on this machine.
func Ask(ctx context.Context, address string, login credential.Login) (asked bool, err error) {
	if _, err := Place(address); err != nil {
		return false, err
	}
	remote := git.NewRemote(memory.NewStorage(), &config.RemoteConfig{Name: "origin", URLs: []string{address}})
	for _, auth := range []transport.AuthMethod{nil, authOf(login)} {
		_, err = remote.ListContext(ctx, &git.ListOptions{Auth: auth})
		if errors.Is(err, transport.ErrEmptyRemoteRepository) {
			err = nil
		}
		if err = denied(err); !errors.Is(err, ErrDenied) {
			break
		}
		asked = true
	}
	if err != nil {
		return asked, fmt.Errorf("asking %s: %w", address, err)
	}
	return asked, nil
}

// auth returns the login for the other side; nil: none, or what its transport finds by itself.
func (b *bringing) auth(ctx context.Context) (transport.AuthMethod, error) {
	e, err := transport.NewEndpoint(b.address)
	if err != nil {
		return nil, err
	}
	switch {
	case e.Protocol == "ssh":
		return b.key(e)
	case !takesLogin(e):
		return nil, nil
	}
	login, err := b.o.Logins.Find(ctx, e.Protocol+"://"+hostOf(e), strings.Trim(e.Path, "/"))
	if err == nil && !login.Given() { // a host that has both may have one login for them
		login, err = b.o.Logins.Find(ctx, hostOf(e), strings.Trim(e.Path, "/"))
	}
	if err != nil {
		return nil, err
	}
	return authOf(login), nil
}

// takesLogin reports whether a login may be sent: no login goes where anybody reads it.
func takesLogin(e *transport.Endpoint) bool {
	return e.Protocol == "https" || e.Protocol == "http" && loopback(e.Host)
}

func hostOf(e *transport.Endpoint) string {
	if e.Port != 0 {
		return net.JoinHostPort(e.Host, fmt.Sprint(e.Port))
	}
	return e.Host
}

// Place returns what the login for a repository is kept under: PROTOCOL://HOST[:PORT]/PATH.
func Place(address string) (string, error) {
	e, err := transport.NewEndpoint(address)
	switch {
	case err != nil || !takesLogin(e):
		return "", fmt.Errorf("%q: a login is for https://HOST/PATH: %w", address, ErrAddress)
	case e.User != "" || e.Password != "":
		return "", fmt.Errorf("%w, since it holds a login: it is told by --user and on standard input", ErrAddress)
	}
	return strings.TrimSuffix(e.Protocol+"://"+hostOf(e)+"/"+strings.Trim(e.Path, "/"), "/"), nil
}

func authOf(login credential.Login) transport.AuthMethod {
	switch {
	case login.Token != "":
		return &githttp.TokenAuth{Token: login.Token.Reveal()}
	case login.Given():
		return &githttp.BasicAuth{Username: login.User, Password: login.Secret.Reveal()}
	}
	return nil
}

func loopback(host string) bool {
	ip := net.ParseIP(host)
	return host == "localhost" || ip != nil && ip.IsLoopback()
}

// key returns the user's key for ssh. The agent is asked where there is one, and hosts must be known.
func (b *bringing) key(e *transport.Endpoint) (transport.AuthMethod, error) {
	if os.Getenv("SSH_AUTH_SOCK") != "" {
		return nil, nil // the transport's own way
	}
	user := e.User
	if user == "" {
		user = ssh.DefaultUsername
	}
	for _, name := range []string{"id_ed25519", "id_ecdsa", "id_rsa"} {
		file := filepath.Join(b.o.Home, ".ssh", name)
		if _, err := os.Stat(file); errors.Is(err, fs.ErrNotExist) {
			continue
		}
		keys, err := ssh.NewPublicKeysFromFile(user, file, "")
		if err != nil {
			return nil, fmt.Errorf("reading the key %s: %w; an agent (SSH_AUTH_SOCK) holds keys that have a password", file, err)
		}
		return keys, nil
	}
	return nil, fmt.Errorf("there is no key for %s: neither an agent (SSH_AUTH_SOCK) nor a key in %s", e.Host, filepath.Join(b.o.Home, ".ssh"))
}

// lay makes the work tree what the commit has and nothing else.
func (b *bringing) lay(commit plumbing.Hash, branch string) error {
	entries, err := os.ReadDir(b.tree.Dir)
	if err != nil {
		return err
	}
	for _, e := range entries {
		if e.Name() == git.GitDirName {
			continue
		}
		if err := os.RemoveAll(filepath.Join(b.tree.Dir, e.Name())); err != nil {
			return err
		}
	}
	if err := os.Remove(filepath.Join(b.tree.Dir, git.GitDirName, "index")); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	head := plumbing.NewHashReference(plumbing.HEAD, commit)
	if branch != "" {
		name := plumbing.NewBranchReferenceName(branch)
		if err := b.repo.Storer.SetReference(plumbing.NewHashReference(name, commit)); err != nil {
			return err
		}
		head = plumbing.NewSymbolicReference(plumbing.HEAD, name)
	}
	if err := b.repo.Storer.SetReference(head); err != nil {
		return err
	}
	tree, err := b.repo.Worktree()
	if err != nil {
		return err
	}
	return tree.Reset(&git.ResetOptions{Commit: commit, Mode: git.HardReset})
}

// pointer begins a file that stands for a large one elsewhere.
var pointer = []byte("version https://git-lfs.github.com/spec/v1\n")

// mostPointer is more than such a file has, in bytes.
const mostPointer = 1024

// notice finds what a clone of this kind does not have.
func (b *bringing) notice() error {
	index, err := b.repo.Storer.Index()
	if err != nil {
		return err
	}
	for _, e := range index.Entries {
		switch {
		case e.Mode == filemode.Submodule:
			b.tree.Submodules = append(b.tree.Submodules, e.Name)
		case (e.Mode == filemode.Regular || e.Mode == filemode.Executable) && e.Size < mostPointer:
			text, err := os.ReadFile(filepath.Join(b.tree.Dir, filepath.FromSlash(e.Name)))
			if err == nil && bytes.HasPrefix(text, pointer) {
				b.tree.Pointers = append(b.tree.Pointers, e.Name)
			}
		}
	}
	return nil
}
