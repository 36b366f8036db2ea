//go:build !unix

package files

import "io/fs"

// Trusted reports whether a file belongs to this process's user, or to the system's. Here nothing tells.
func Trusted(fs.FileInfo) bool { return true }
