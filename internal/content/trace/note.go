// Package trace holds the verifying trace of a command as data: what its processes asked of the file system that they
// saw, what they learnt, and whether another file system would have told them the same.
//
// It is pure: it looks at views, which are data too, and never at a disk, a clock or a process.
package trace

import (
	"encoding/binary"
	"errors"
	"strings"
)

// Act is what a process did with a path; several may be joined.
type Act uint16

// The acts. What each learns is told by what it may: a path that is absent teaches only that.
const (
	Pass      Act = 1 << iota // went through it: that it is there and what kind it is
	Look                      // asked what it is like
	Read                      // opened it for reading, or ran it
	List                      // listed a folder
	Change                    // changed something and kept the rest: mode, owner, some bytes
	Overwrite                 // replaced what a file holds: its mode and owner stay
	Make                      // made it, or found that it is there already
	Remove                    // removed it
	Move                      // moved it, with all that is in it
	NoFollow                  // of a link at the end the link itself was meant
	Create                    // would have made it, were it absent
)

// Note is one path as processes wrote it: absolute, with links and dots still in it. Root is the folder that counts as
// the root, where that is not the view's own.
type Note struct {
	Root, Path string
	Acts       Act
}

// Start parts the path into the folder from which its names are looked up and these names. What lies in the root begins
// there; what a process still has open or works in beyond it begins at the view's own root.
func (n Note) Start() (at, names string) {
	if below, within := strings.CutPrefix(n.Path, n.Root); within && (n.Root == "" || below == "" || below[0] == '/') {
		return n.Root, below
	}
	return "", n.Path
}

// Observation is what was seen of a command.
type Observation struct {
	Packed []byte // notes, as PackNotes writes them
	Whole  string // why not everything could be seen; empty: everything was
	Owners bool   // processes changed their ids, so that permissions of folders on the way count
}

var errDamaged = errors.New("the notes of a command are damaged")

// PackNotes writes notes as bytes: acts, root and path, with their lengths, since paths need not be text.
func PackNotes(notes []Note) []byte {
	var out []byte
	for _, n := range notes {
		out = binary.AppendUvarint(out, uint64(n.Acts))
		for _, s := range []string{n.Root, n.Path} {
			out = append(binary.AppendUvarint(out, uint64(len(s))), s...)
		}
	}
	return out
}

// Notes reads what PackNotes wrote.
func (o *Observation) Notes() ([]Note, error) {
	var all []Note
	for rest := o.Packed; len(rest) > 0; {
		acts, n := binary.Uvarint(rest)
		if n <= 0 {
			return nil, errDamaged
		}
		rest = rest[n:]
		var texts [2]string
		for i := range texts {
			size, n := binary.Uvarint(rest)
			if n <= 0 || size > uint64(len(rest)-n) {
				return nil, errDamaged
			}
			texts[i], rest = string(rest[n:n+int(size)]), rest[n+int(size):]
		}
		all = append(all, Note{texts[0], texts[1], Act(acts)})
	}
	return all, nil
}
