//go:build !linux && !darwin

package store

import "io/fs"

// diskSize is what a file takes on the disk, in bytes, as far as that can be known here.
func diskSize(info fs.FileInfo) int64 { return info.Size() }
