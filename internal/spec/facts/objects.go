package facts

import (
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/go-git/go-git/v5/config"
	"github.com/go-git/go-git/v5/plumbing/format/index"
	"github.com/go-git/go-git/v5/storage/filesystem"
)

// FileState is what tells that a file of the work tree is as version control left it: size in bytes, times in nanoseconds,
// and the inode's lower 32 bits.
type FileState struct {
	Size, ModTime, Change int64
	Inode                 uint32
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
	idx, err := g.repo.Storer.Index()
	if err != nil || g.converts(disk, idx) {
		return all
	}
	// What was written when the index was, or later, may have changed without showing.
	info, err := disk.Filesystem().Stat("index")
	if err != nil {
		return all
	}
	written := info.ModTime()
	before := func(when time.Time) bool {
		if when.Nanosecond() == 0 { // a git that keeps whole seconds
			return when.Before(written.Truncate(time.Second))
		}
		return when.Before(written)
	}
	for _, e := range idx.Entries {
		path, inside := e.Name, true
		if g.under != "" {
			path, inside = strings.CutPrefix(e.Name, g.under+"/")
		}
		if !inside || e.Stage != 0 || e.IntentToAdd || !e.Mode.IsFile() || e.ModifiedAt.IsZero() || !before(e.ModifiedAt) {
			continue
		}
		all[path] = Object{e.Hash.String(), FileState{int64(e.Size), e.ModifiedAt.UnixNano(), e.CreatedAt.UnixNano(), e.Inode}}
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
