package facts

import (
	"os"
	"path/filepath"
	"time"

	"imbricat/internal/content/tree"

	"github.com/go-git/go-git/v5/config"
	"github.com/go-git/go-git/v5/plumbing/format/index"
	"github.com/go-git/go-git/v5/storage/filesystem"
)

// FileState is what tells that a file of the work tree is as version control left it: size in bytes, times in nanoseconds,
// and the inode, the last two as far as the index has them.
type FileState struct {
	Size            uint32
	ModTime, Change int64
	Inode           uint32
}

// StateOf returns the state of a file that was looked at.
func StateOf(s tree.Stat) FileState {
	return FileState{uint32(s.Size), s.ModTime, s.Change, uint32(s.Inode)}
}

func stateOf(e *index.Entry) FileState {
	return FileState{e.Size, e.ModifiedAt.UnixNano(), e.CreatedAt.UnixNano(), e.Inode}
}

// racy is when an index was written; zero where that is unknown.
type racy struct{ written time.Time }

// unsure reports whether a file with that time may have been written after the index had noted it.
func (r racy) unsure(modified time.Time) bool {
	if modified.Nanosecond() == 0 { // a git that keeps whole seconds
		return !modified.Before(r.written.Truncate(time.Second))
	}
	return modified.IsZero() || !modified.Before(r.written)
}

// Object is the id of a file's bytes in version control, and the state in which the file had them.
type Object struct {
	ID    string
	State FileState
}

// Objects returns the object ids of files of the project folder that version control knows, by their paths, with the state
// in which it last saw them: whoever finds a file in that state has the object's bytes. Files whose state says nothing are
// left out, and all are where bytes are converted on checkout.
func (g *Git) Objects() map[string]Object {
	all := map[string]Object{}
	if !g.Known() {
		return all
	}
	g.mutex.Lock()
	defer g.mutex.Unlock()
	disk, is := g.repo.Storer.(*filesystem.Storage)
	if !is {
		return all
	}
	idx, written, err := g.staged()
	if err != nil || g.converts(disk, idx) {
		return all
	}
	for _, e := range idx.Entries {
		path, inside := g.inProject(e.Name)
		if !inside || e.Stage != 0 || e.IntentToAdd || !e.Mode.IsFile() || written.unsure(e.ModifiedAt) {
			continue
		}
		all[path] = Object{e.Hash.String(), stateOf(e)}
	}
	return all
}

// converts reports whether files of the work tree may differ from their objects: by filters, line ends, encodings.
func (g *Git) converts(disk *filesystem.Storage, idx *index.Index) bool {
	for _, e := range idx.Entries {
		if filepath.Base(e.Name) == ".gitattributes" {
			return true
		}
	}
	if _, err := disk.Filesystem().Stat("info/attributes"); err == nil {
		return true
	}
	settings, err := g.repo.ConfigScoped(config.SystemScope) // the system's and the user's too
	if err != nil {
		return true
	}
	core := settings.Raw.Section("core")
	if value := core.Option("autocrlf"); value != "" && value != "false" {
		return true
	}
	return core.Option("attributesfile") != "" || attributesOfUser()
}

// attributesOfUser reports whether the user or the system has attributes for every repository.
func attributesOfUser() bool {
	places := []string{"/etc/gitattributes"}
	if dir, err := os.UserConfigDir(); err == nil {
		places = append(places, filepath.Join(dir, "git", "attributes"))
	}
	for _, place := range places {
		if _, err := os.Stat(place); err == nil {
			return true
		}
	}
	return false
}
