//go:build unix

package machine

import "golang.org/x/sys/unix"

func kernel() string {
	var name unix.Utsname
	if unix.Uname(&name) != nil {
		return ""
	}
	return unix.ByteSliceToString(name.Sysname[:]) + " " + unix.ByteSliceToString(name.Release[:])
}
