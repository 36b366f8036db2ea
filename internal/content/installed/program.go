package installed

import (
	"bufio"
	"bytes"
	"compress/zlib"
	"debug/elf"
	"encoding/binary"
	"encoding/json"
	"io"
	"runtime/debug"
	"strings"
)

// goMagic begins what the linker of Go writes into a program about its modules, at an address that is a multiple of 16. See debug/buildinfo.
var goMagic = []byte("\xff Go buildinf:")

const (
	goHeader = 32
	maxSaid  = 1 << 20 // bytes of what a program tells of itself
	maxRead  = 8 << 20 // the same unpacked
	step     = maxSaid // bytes that are looked at at once
	ahead    = 4 << 10 // bytes that tell whether something begins there
)

// program looks for what a program tells of the packages that it was built of, reading on until that is found: the build information of Go, or the
// list of crates that Cargo's builds may leave in a section of its own.
func program(p string, text io.Reader) []Package {
	r := bufio.NewReaderSize(text, 2*step)
	sections := elfSections(r)
	if sections == nil {
		return nil
	}
	crates := crateFinder{}
	for at := int64(0); ; {
		window, err := r.Peek(step + ahead)
		if len(window) == 0 {
			return nil
		}
		last := err != nil
		fresh := len(window) - ahead // the rest is looked at with what follows it
		if last {
			fresh = len(window)
		}
		goes, is := find(window, fresh, goMagic), crates.find(window, fresh)
		switch {
		case goes < 0 && is < 0:
			if last {
				return nil
			}
			_, _ = r.Discard(fresh)
			at += int64(fresh)
		case is < 0 || goes >= 0 && goes < is:
			_, _ = r.Discard(goes)
			window, _ = r.Peek(maxSaid)
			if one := goModules(window); one != nil {
				one.Folder = p
				return []Package{*one}
			}
			_, _ = r.Discard(len(goMagic))
			at += int64(goes + len(goMagic))
		default:
			_, _ = r.Discard(is)
			at += int64(is)
			window, _ = r.Peek(maxSaid)
			if one := crates.root(window); one != nil && sections.begins(r, at) {
				one.Folder = p
				return []Package{*one}
			} else if one != nil {
				return nil // the sections were read past
			}
			_, _ = r.Discard(1)
			at++
		}
	}
}

// find returns where a text begins in the first bytes of a window; -1: in none of these.
func find(window []byte, first int, text []byte) int {
	if at := bytes.Index(window, text); at < first {
		return at
	}
	return -1
}

// goModules reads what begins at a magic: pointer size, flags, and from byte 32 on the version of Go and the modules, each behind its length.
func goModules(text []byte) *Package {
	if len(text) < goHeader || text[15]&2 == 0 {
		return nil // of a Go before 1.18, or what only looks like it
	}
	next := func(rest []byte) (string, []byte) {
		n, took := binary.Uvarint(rest)
		if took <= 0 || n > uint64(len(rest)-took) {
			return "", nil
		}
		return string(rest[took : took+int(n)]), rest[took+int(n):]
	}
	version, rest := next(text[goHeader:])
	modules, _ := next(rest)
	const sentinel = 16 // bytes before and behind
	if !strings.HasPrefix(version, "go") && !strings.HasPrefix(version, "devel") || len(modules) < 2*sentinel {
		return nil
	}
	info, err := debug.ParseBuildInfo(modules[sentinel : len(modules)-sentinel])
	if err != nil {
		return nil
	}
	one := &Package{Manager: Go, Name: info.Main.Path, Version: info.Main.Version}
	if one.Name == "" {
		one.Name = info.Path
	}
	if one.Name == "" {
		return nil
	}
	return one
}

// elfTable is where a program has its table of sections.
type elfTable struct {
	order  binary.ByteOrder
	at     int64
	number int
	wide   bool // of 64 bits
}

// elfSections reads the head of a program; nil: it is none.
func elfSections(r *bufio.Reader) *elfTable {
	head, err := r.Peek(64)
	if err != nil || !bytes.HasPrefix(head, []byte(elf.ELFMAG)) {
		return nil
	}
	t := &elfTable{order: binary.LittleEndian, wide: elf.Class(head[elf.EI_CLASS]) == elf.ELFCLASS64}
	if elf.Data(head[elf.EI_DATA]) == elf.ELFDATA2MSB {
		t.order = binary.BigEndian
	}
	if t.wide {
		t.at, t.number = int64(t.order.Uint64(head[40:])), int(t.order.Uint16(head[60:]))
	} else {
		t.at, t.number = int64(t.order.Uint32(head[32:])), int(t.order.Uint16(head[48:]))
	}
	return t
}

// begins reports whether a section begins at a place of the program, which r has read up to. It reads on to the table, which lies behind.
func (t *elfTable) begins(r *bufio.Reader, place int64) bool {
	if t.at < place {
		return false
	}
	if _, err := io.CopyN(io.Discard, r, t.at-place); err != nil {
		return false
	}
	size, offset := 40, 16
	if t.wide {
		size, offset = 64, 24
	}
	entry := make([]byte, size)
	for range t.number {
		if _, err := io.ReadFull(r, entry); err != nil {
			return false
		}
		begins := int64(t.order.Uint32(entry[offset:]))
		if t.wide {
			begins = int64(t.order.Uint64(entry[offset:]))
		}
		if begins == place {
			return true
		}
	}
	return false
}

// crateFinder looks for a list of crates: JSON in a stream of zlib.
type crateFinder struct {
	unpack io.ReadCloser // kept from one place to the next
}

// find returns the first of a window's first bytes where the head of such a stream is; -1: nowhere. What follows it was unpacked as far as its first
// words.
func (c *crateFinder) find(window []byte, first int) int {
	for at := 0; ; at++ {
		next := bytes.IndexByte(window[at:first], 0x78) // deflate, of a window of 32 KiB
		if next < 0 {
			return -1
		}
		if at += next; at+1 >= len(window) {
			return -1
		}
		if flags := window[at+1]; (0x7800+uint(flags))%31 == 0 && flags&0x20 == 0 && c.begins(window[at:]) {
			return at
		}
	}
}

var crateHead = []byte(`{"packages":`)

func (c *crateFinder) begins(text []byte) bool {
	head := make([]byte, len(crateHead))
	return c.open(text) && readFull(c.unpack, head) && bytes.Equal(head, crateHead)
}

func readFull(r io.Reader, into []byte) bool {
	_, err := io.ReadFull(r, into)
	return err == nil
}

func (c *crateFinder) open(text []byte) bool {
	if c.unpack == nil {
		r, err := zlib.NewReader(bytes.NewReader(text))
		if err != nil {
			return false
		}
		c.unpack = r
		return true
	}
	return c.unpack.(zlib.Resetter).Reset(bytes.NewReader(text), nil) == nil
}

// root returns the package that a list of crates was built for.
func (c *crateFinder) root(text []byte) *Package {
	if !c.open(text) {
		return nil
	}
	var said struct {
		Packages []struct {
			Name    string `json:"name"`
			Version string `json:"version"`
			Root    bool   `json:"root"`
		} `json:"packages"`
	}
	if json.NewDecoder(io.LimitReader(c.unpack, maxRead)).Decode(&said) != nil {
		return nil
	}
	for _, one := range said.Packages {
		if one.Root && one.Name != "" {
			return &Package{Manager: Cargo, Name: one.Name, Version: one.Version}
		}
	}
	return nil
}
