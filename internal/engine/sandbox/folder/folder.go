// Package folder lays trees down as folders and reads back what became of them: all of it, what an overlay's upper folder holds, or what
// differs from what was there. It keeps no tree, mounts nothing and runs nothing. What it writes and reads it does with the rights that
// it has. Linux only.
package folder

import (
	"errors"
	"strings"

	"imbricat/internal/content/tree"
)

// Found is a path that a command wrote, as it left it.
type Found struct {
	tree.Entry
	CopiedUp bool // it was there before under this or another name, and carries what it was
	Opaque   bool // a folder that hides what was there under its name
}

// capability is the extended attribute that holds the capabilities of a program.
const capability = "security.capability"

// KeptAttribute reports whether an extended attribute belongs to a file, rather than to the file system that it lies on.
func KeptAttribute(name string) bool {
	return name == capability || strings.HasPrefix(name, "user.") && !strings.HasPrefix(name, "user.overlay.")
}

// ErrTruncated is what is wrong with a stream that stops before its end.
var ErrTruncated = errors.New("the helper's answer ends early")

// Mending says how a folder is to become what its entries tell: without notes that only the overlay reads.
type Mending struct {
	Show []string // folders that no longer hide what is below
	Hide []string // paths that become deletions
	Drop []string // deletions of nothing
	Gone []string // paths that go with all that lies in them; any of them may be gone with another
}
