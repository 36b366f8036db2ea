package layer

import (
	"archive/tar"
	"path"
	"strings"
	"time"

	"imbricat/internal/content/tree"
)

// The fields of a header of POSIX.1-1988 (ustar): where each begins in its block, and the numbers' widths.
const (
	modeField, uidField, gidField     = 100, 108, 116
	sizeField, timeField, sumField    = 124, 136, 148
	kindField, targetField            = 156, 157
	magicField                        = 257
	majorField, minorField            = 329, 337
	nameWidth, numberWidth, longWidth = 100, 8, 12
)

// appendHeader appends the header of an entry, as the standard library writes it.
func appendHeader(raw []byte, e *tree.Entry) ([]byte, error) {
	if raw, plain := appendPlain(raw, e); plain {
		return raw, nil
	}
	err := tar.NewWriter(&appender{&raw}).WriteHeader(header(e))
	return raw, err
}

// appendPlain appends the header of an entry where all of it fits into one plain block, as it does of nearly all; of many small files,
// composing it by way of the standard library takes as long as reading them.
func appendPlain(raw []byte, e *tree.Entry) ([]byte, bool) {
	seconds := e.Time
	if seconds == 0 {
		seconds = Epoch.Unix()
	}
	name := len(e.Path)
	if e.Kind == tree.Folder {
		name++
	}
	switch {
	case e.Kind != tree.File && e.Kind != tree.Folder && e.Kind != tree.Symlink && e.Kind != tree.Hardlink,
		e.Kind != tree.File && e.Size != 0, name > nameWidth || len(e.Target) > nameWidth, !isPlain(e.Path) || !isPlain(e.Target), len(e.Xattrs) > 0,
		!fits(int64(e.Mode), numberWidth) || !fits(int64(e.UID), numberWidth) || !fits(int64(e.GID), numberWidth),
		!fits(e.Size, longWidth) || !fits(seconds, longWidth), e.Major != 0 || e.Minor != 0,
		strings.HasSuffix(e.Path, "/"): // which no path does, and the library refuses
		return raw, false
	}
	start := len(raw)
	raw = append(raw, make([]byte, blockSize)...)
	block := raw[start:]
	copy(block, e.Path)
	if e.Kind == tree.Folder {
		block[name-1] = '/'
	}
	octal(block[modeField:][:numberWidth], int64(e.Mode))
	octal(block[uidField:][:numberWidth], int64(e.UID))
	octal(block[gidField:][:numberWidth], int64(e.GID))
	octal(block[sizeField:][:longWidth], e.Size)
	octal(block[timeField:][:longWidth], seconds)
	block[kindField] = typeflags[e.Kind]
	copy(block[targetField:], e.Target)
	copy(block[magicField:], "ustar\x0000")
	octal(block[majorField:][:numberWidth], 0)
	octal(block[minorField:][:numberWidth], 0)
	copy(block[sumField:][:numberWidth], "        ")
	sum := int64(0)
	for _, b := range block {
		sum += int64(b)
	}
	octal(block[sumField:][:numberWidth-1], sum)
	return raw, true
}

// isPlain reports whether a text is of ASCII alone, without NUL.
func isPlain(s string) bool {
	for i := range len(s) {
		if s[i] == 0 || s[i] >= 0x80 {
			return false
		}
	}
	return true
}

// fits reports whether a number can be written into a field of so many bytes, of which the last is NUL.
func fits(n int64, width int) bool { return n >= 0 && n < 1<<(3*(width-1)) }

// octal writes a number with leading zeros and NUL after it.
func octal(field []byte, n int64) {
	field[len(field)-1] = 0
	for i := len(field) - 2; i >= 0; i-- {
		field[i] = byte('0' + n&7)
		n >>= 3
	}
}

var typeflags = [...]byte{
	tree.File: tar.TypeReg, tree.Folder: tar.TypeDir, tree.Symlink: tar.TypeSymlink, tree.Hardlink: tar.TypeLink,
	tree.CharDevice: tar.TypeChar, tree.BlockDevice: tar.TypeBlock, tree.Fifo: tar.TypeFifo,
	tree.Whiteout: tar.TypeReg, tree.Opaque: tar.TypeReg,
}

func header(e *tree.Entry) *tar.Header {
	h := &tar.Header{
		Typeflag: typeflags[e.Kind], Name: e.Path, Mode: int64(e.Mode), Uid: e.UID, Gid: e.GID,
		Size: e.Size, ModTime: Epoch, Linkname: e.Target, Devmajor: e.Major, Devminor: e.Minor,
	}
	if e.Time != 0 {
		h.ModTime = time.Unix(e.Time, 0)
	}
	switch e.Kind {
	case tree.Folder:
		h.Name += "/"
	case tree.Whiteout:
		h.Name, h.Mode = tree.Join(tree.Parent(e.Path), whiteoutPrefix+path.Base(e.Path)), 0
	case tree.Opaque:
		h.Name, h.Mode = tree.Join(e.Path, opaqueName), 0
	}
	for name, value := range e.Xattrs {
		if h.PAXRecords == nil {
			h.PAXRecords = map[string]string{}
		}
		h.PAXRecords[xattrPrefix+name] = value
	}
	return h
}
