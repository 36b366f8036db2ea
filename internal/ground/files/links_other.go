//go:build !unix

package files

import "io/fs"

// LinkID tells files of a machine apart that have several names; here no file is known to.
func LinkID(fs.FileInfo) (id [2]uint64) { return id }
