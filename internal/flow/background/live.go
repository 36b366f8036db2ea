package background

import (
	"os"

	"imbricat/internal/content/tree"
)

// Inside changes what a command sees while it runs.
type Inside interface {
	Put(e tree.Entry, content *os.File) error
	Remove(path string) error
}
