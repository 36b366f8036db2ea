package facts

import (
	"io/fs"
	"os"
	"path/filepath"
	"strings"
)

// Head returns a text that is another one when another commit or branch is checked out in a folder, or a tag is set on the commit; empty where
// there is no repository.
func Head(dir string) string {
	g, err := openGit(dir)
	if err != nil || g.head == nil {
		return ""
	}
	return strings.Join([]string{g.Commit, g.Branch, g.Tag, g.Source}, "\n")
}

// HeadFolders returns the folders of the repository around a folder in which files change when Head does, absolute; none without a repository.
func HeadFolders(dir string) (folders []string) {
	dir, err := filepath.Abs(dir)
	if err != nil {
		return nil
	}
	git := ""
	for at := dir; git == ""; at = filepath.Dir(at) {
		if info, err := os.Stat(filepath.Join(at, ".git")); err == nil {
			git = filepath.Join(at, ".git")
			if !info.IsDir() {
				git = pathIn(git, "gitdir: ", at)
			}
		}
		if at == filepath.Dir(at) {
			break
		}
	}
	if git == "" {
		return nil
	}
	folders = []string{git}
	if common := pathIn(filepath.Join(git, "commondir"), "", git); common != "" { // of a work tree beside the first
		git = common
		folders = append(folders, git)
	}
	_ = filepath.WalkDir(filepath.Join(git, "refs"), func(name string, e fs.DirEntry, err error) error {
		if err == nil && e.IsDir() {
			folders = append(folders, name)
		}
		return nil
	})
	return folders
}

// pathIn reads a path from a file, relative to a folder or not.
func pathIn(file, head, dir string) string {
	text, err := os.ReadFile(file)
	if err != nil {
		return ""
	}
	name, is := strings.CutPrefix(strings.TrimSpace(string(text)), head)
	if !is || name == "" {
		return ""
	}
	if filepath.IsAbs(name) {
		return filepath.Clean(name)
	}
	return filepath.Join(dir, name)
}
