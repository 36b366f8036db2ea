// Package tree holds a file tree as data: its entries, the view that several layers give together, and the walk over
// a project folder.
//
// It knows no archive format and no image; it never writes a file.
package tree

import (
	"fmt"
	"io"
	"maps"
	"path"
	"slices"
	"strconv"
	"strings"

	"imbricat/internal/digest"
)

// Kind is what an entry is.
type Kind uint8

// The kinds of entry.
const (
	File Kind = iota + 1
	Folder
	Symlink
	Hardlink // Target is a path in the same layer or below it
	CharDevice
	BlockDevice
	Fifo
	Whiteout // what lower layers have at this path is deleted
	Opaque   // what lower layers have in the folder at this path is hidden
)

var kindNames = map[Kind]string{File: "file", Folder: "folder", Symlink: "link", Hardlink: "hard link",
	CharDevice: "character device", BlockDevice: "block device", Fifo: "pipe", Whiteout: "deletion", Opaque: "opaque folder"}

func (k Kind) String() string { return kindNames[k] }

// Entry is one path of a tree.
type Entry struct {
	Path   string            `json:"p"` // slashes, no leading one; "" is the root
	Kind   Kind              `json:"k"`
	Mode   uint32            `json:"m,omitempty"` // permission bits with set-uid, set-gid and sticky
	UID    int               `json:"u,omitempty"`
	GID    int               `json:"g,omitempty"`
	Size   int64             `json:"s,omitempty"` // bytes; files only
	Digest digest.Digest     `json:"d,omitempty"` // contents; files only
	Target string            `json:"t,omitempty"` // links
	Major  int64             `json:"a,omitempty"` // devices
	Minor  int64             `json:"b,omitempty"`
	Xattrs map[string]string `json:"x,omitempty"`
}

// AppendLine adds everything of an entry that decides the bytes of its layer, for keys that can be explained:
//
//	KIND MODE UID:GID SIZE DIGEST "PATH" -> "TARGET" MAJOR,MINOR "NAME"="VALUE"…
func (e *Entry) AppendLine(line []byte) []byte {
	line = append(append(line, e.Kind.String()...), ' ')
	line = append(strconv.AppendUint(line, uint64(e.Mode), 8), ' ')
	line = append(strconv.AppendInt(line, int64(e.UID), 10), ':')
	line = append(strconv.AppendInt(line, int64(e.GID), 10), ' ')
	line = append(strconv.AppendInt(line, e.Size, 10), ' ')
	line = append(append(line, e.Digest...), ' ')
	line = append(strconv.AppendQuote(line, e.Path), " -> "...)
	line = append(strconv.AppendQuote(line, e.Target), ' ')
	line = append(strconv.AppendInt(line, e.Major, 10), ',')
	line = strconv.AppendInt(line, e.Minor, 10)
	for _, name := range slices.Sorted(maps.Keys(e.Xattrs)) {
		line = append(strconv.AppendQuote(append(line, ' '), name), '=')
		line = strconv.AppendQuote(line, e.Xattrs[name])
	}
	return append(line, '\n')
}

// Contents gives the bytes of a tree's files. Open is called with the path under which the tree has the file.
type Contents interface {
	Open(path string) (io.ReadCloser, error)
}

// CleanPath checks a path that came from outside (an archive's entry) and gives it without leading and trailing
// slashes. Paths with ".." and NUL are refused; they have no use but to climb out.
func CleanPath(name string) (string, error) {
	if len(name) > 4096 {
		return "", fmt.Errorf("a path of %d bytes is longer than any system takes", len(name))
	}
	if strings.ContainsRune(name, 0) {
		return "", fmt.Errorf("the path %q has a NUL byte", name)
	}
	for part := range strings.SplitSeq(name, "/") {
		if part == ".." {
			return "", fmt.Errorf("the path %q leads out of its root", name)
		}
	}
	return strings.TrimPrefix(path.Clean("/"+name), "/"), nil
}

// Parent is the path of the folder that holds path; the parent of the root is the root.
func Parent(p string) string {
	if i := strings.LastIndexByte(p, '/'); i >= 0 {
		return p[:i]
	}
	return ""
}

// Join puts a name below a folder.
func Join(folder, name string) string {
	switch {
	case folder == "":
		return name
	case name == "":
		return folder
	}
	return folder + "/" + name
}
