package causes

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"debug/elf"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/klauspost/compress/zstd"
)

// formats are the kinds of files that can be looked into. The first that fits counts.
func formats() []format {
	return []format{
		{startsWith("\x1f\x8b"), (*look).gzip},
		{startsWith("\x28\xb5\x2f\xfd"), (*look).zstd},
		{startsWith("!<arch>\n"), (*look).archive},
		{startsWith("PK\x03\x04"), (*look).zip},
		{startsWith("\x7fELF"), (*look).elf},
		{isByteCode, (*look).byteCode},
		{func(_ string, content []byte) bool { return len(content) > 262 && string(content[257:262]) == "ustar" }, (*look).tar},
		{startsWith("%PDF-"), (*look).pdf},
	}
}

func (l *look) gzip(prefix string, was, now []byte, depth int) {
	stamp := func(content []byte) int64 { return int64(binary.LittleEndian.Uint32(content[4:])) }
	if len(was) < 18 || len(now) < 18 {
		return
	}
	if a, b := stamp(was), stamp(now); a != b {
		l.add(prefix, "gzip header: modification time", moment(a), moment(b), Clock, Gzip)
	}
	l.unpacked(prefix, was, now, depth, func(r io.Reader) (io.Reader, error) { return gzip.NewReader(r) })
}

func (l *look) zstd(prefix string, was, now []byte, depth int) {
	l.unpacked(prefix, was, now, depth, func(r io.Reader) (io.Reader, error) {
		return zstd.NewReader(r, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(Most))
	})
}

// unpacked looks at what two compressed contents hold.
func (l *look) unpacked(prefix string, was, now []byte, depth int, open func(r io.Reader) (io.Reader, error)) {
	both := [2][]byte{was, now}
	for i := range both {
		r, err := open(bytes.NewReader(both[i]))
		if err != nil {
			return
		}
		if both[i], err = io.ReadAll(io.LimitReader(r, Most)); err != nil && !errors.Is(err, io.ErrUnexpectedEOF) {
			return
		}
	}
	if bytes.Equal(both[0], both[1]) && len(l.found) == 0 {
		l.add(prefix, "what is packed is the same, and packed otherwise", "", "", Other, Bytes)
		return
	}
	l.at("", prefix, both[0], both[1], depth+1)
}

// member is an entry of an archive, with the fields of which some should not depend on anything.
type member struct {
	name    string
	fields  []memberField
	content []byte
}

type memberField struct {
	name  string
	value string
	cause Cause
}

// members compares archives by their entries: order, fields, contents.
func (l *look) members(prefix string, form Form, was, now []member, depth int) {
	names := func(all []member) (list []string) {
		for i := range all {
			list = append(list, all[i].name)
		}
		return list
	}
	a, b := names(was), names(now)
	if !slices.Equal(a, b) {
		sortedA, sortedB := slices.Sorted(slices.Values(a)), slices.Sorted(slices.Values(b))
		if slices.Equal(sortedA, sortedB) {
			at := 0
			for a[at] == b[at] {
				at++
			}
			l.add(prefix, fmt.Sprintf("%s: the order of its entries, from entry %d on", form, at+1), a[at], b[at], Listing, form)
		} else {
			only := func(x, y []string) string {
				return strings.Join(slices.DeleteFunc(slices.Clone(x), func(name string) bool { return slices.Contains(y, name) }), ", ")
			}
			l.add(prefix, fmt.Sprintf("%s: its entries", form), only(a, b), only(b, a), Other, form)
		}
	}
	other := map[string]*member{}
	for i := range now {
		other[now[i].name] = &now[i]
	}
	told := map[string]bool{} // of one field the first entry tells for all
	for i := range was {
		one, two := &was[i], other[was[i].name]
		if two == nil || l.full() {
			continue
		}
		for k := range min(len(one.fields), len(two.fields)) {
			f, g := one.fields[k], two.fields[k]
			if f.value != g.value && !told[f.name] {
				told[f.name] = true
				l.add(prefix, fmt.Sprintf("%s entry %s: %s", form, one.name, f.name), f.value, g.value, f.cause, form)
			}
		}
		l.at(one.name, prefix+fmt.Sprintf("%s entry %s: ", form, one.name), one.content, two.content, depth+1)
	}
}

func (l *look) tar(prefix string, was, now []byte, depth int) {
	a, err := tarMembers(was)
	b, otherErr := tarMembers(now)
	if err == nil && otherErr == nil {
		l.members(prefix, Tar, a, b, depth)
	}
}

// mostMembers bounds how many entries of an archive are compared.
const mostMembers = 200_000

func tarMembers(content []byte) (all []member, err error) {
	r := tar.NewReader(bytes.NewReader(content))
	for len(all) < mostMembers {
		h, err := r.Next()
		if errors.Is(err, io.EOF) {
			return all, nil
		}
		if err != nil {
			return nil, err
		}
		m := member{name: h.Name, fields: []memberField{{"modification time", stampOf(h.ModTime), Clock}, {"access time", stampOf(h.AccessTime), Clock}, {"change time", stampOf(h.ChangeTime), Clock},
			{"owner", fmt.Sprintf("%d:%d %s:%s", h.Uid, h.Gid, h.Uname, h.Gname), Machine}, {"mode", fmt.Sprintf("%04o", h.Mode), Other}, {"link", h.Linkname, Listing}}}
		if m.content, err = io.ReadAll(io.LimitReader(r, Most)); err != nil {
			return nil, err
		}
		all = append(all, m)
	}
	return all, nil
}

func stampOf(t time.Time) string {
	if t.IsZero() || t.Unix() == 0 {
		return "none"
	}
	if t.Nanosecond() != 0 {
		return t.UTC().Format("2006-01-02 15:04:05.000000000")
	}
	return t.UTC().Format(time.DateTime)
}

func (l *look) zip(prefix string, was, now []byte, depth int) {
	a, err := zipMembers(was)
	b, otherErr := zipMembers(now)
	if err == nil && otherErr == nil {
		l.members(prefix, Zip, a, b, depth)
	}
}

func zipMembers(content []byte) (all []member, err error) {
	r, err := zip.NewReader(bytes.NewReader(content), int64(len(content)))
	if err != nil {
		return nil, err
	}
	left := int64(Most)
	for i, f := range r.File {
		if i == mostMembers || left <= 0 {
			break
		}
		m := member{name: f.Name, fields: []memberField{{"modification time", stampOf(f.Modified), Clock}, {"extra field", fmt.Sprintf("%x", f.Extra), Clock}, {"mode", f.Mode().String(), Other}}}
		body, err := f.Open()
		if err != nil {
			continue
		}
		m.content, _ = io.ReadAll(io.LimitReader(body, left)) // what is damaged is compared as far as it goes
		left -= int64(len(m.content))
		body.Close()
		all = append(all, m)
	}
	return all, nil
}

// archive compares archives of ar, as static libraries are.
func (l *look) archive(prefix string, was, now []byte, depth int) {
	l.members(prefix, Archive, arMembers(was), arMembers(now), depth)
}

func arMembers(content []byte) (all []member) {
	for rest := content[8:]; len(rest) >= 60 && len(all) < mostMembers; {
		field := func(from, until int) string { return strings.TrimSpace(string(rest[from:until])) }
		size, err := strconv.ParseInt(field(48, 58), 10, 64)
		if err != nil || size < 0 || size > int64(len(rest)-60) {
			return all
		}
		name := field(0, 16)
		all = append(all, member{name: entryName(name, len(all)), content: rest[60 : 60+size],
			fields: []memberField{{"modification time", field(16, 28), Clock}, {"owner", field(28, 34) + ":" + field(34, 40), Machine}, {"mode", field(40, 48), Other}}})
		rest = rest[min(int64(len(rest)), 60+size+size%2):]
	}
	return all
}

// entryName names a member; several may have the name of a table.
func entryName(name string, at int) string {
	if name == "" || name == "/" || name == "//" {
		return fmt.Sprintf("%s (entry %d)", name, at+1)
	}
	return strings.TrimSuffix(name, "/")
}

func isByteCode(name string, content []byte) bool {
	return strings.HasSuffix(name, ".pyc") && len(content) > 16 && content[2] == '\r' && content[3] == '\n'
}

func (l *look) byteCode(prefix string, was, now []byte, _ int) {
	if flags := binary.LittleEndian.Uint32(was[4:]); flags == 0 {
		if a, b := int64(binary.LittleEndian.Uint32(was[8:])), int64(binary.LittleEndian.Uint32(now[8:])); a != b {
			l.add(prefix, "header, bytes 8 to 11: time of the source", moment(a), moment(b), Clock, ByteCode)
		}
	}
	if !bytes.Equal(was[16:], now[16:]) {
		l.add(prefix, "byte-code: the order of a set, or of constants", "", "", Random, ByteCode)
	}
}

func (l *look) elf(prefix string, was, now []byte, _ int) {
	a, err := elf.NewFile(bytes.NewReader(was))
	if err != nil {
		return
	}
	b, err := elf.NewFile(bytes.NewReader(now))
	if err != nil {
		return
	}
	var ids []Difference
	for _, s := range a.Sections {
		other := b.Section(s.Name)
		if other == nil || s.Type == elf.SHT_NOBITS || l.full() {
			continue
		}
		x, err := s.Data()
		y, otherErr := other.Data()
		if err != nil || otherErr != nil || bytes.Equal(x, y) {
			continue
		}
		switch s.Name {
		case ".note.gnu.build-id":
			ids = append(ids, Difference{prefix + "ELF note .note.gnu.build-id: the build id", hexEnd(x), hexEnd(y), Other, BuildID})
		case ".note.go.buildid", ".go.buildinfo":
			ids = append(ids, Difference{prefix + "ELF section " + s.Name, short(printable(x)), short(printable(y)), Other, GoBuild})
		default:
			form := ELF
			if bytes.Contains(was, []byte("\xff Go build ID:")) || a.Section(".go.buildinfo") != nil {
				form = GoBuild
			}
			l.section(prefix+"ELF section "+s.Name+": ", x, y, form)
		}
	}
	// An id is a hash of the rest: it tells something where nothing else does.
	if len(l.found) == 0 {
		l.found = append(l.found, ids...)
	}
}

func hexEnd(note []byte) string { return fmt.Sprintf("%x", note[min(16, len(note)):]) }

// section compares parts of a program: texts first.
func (l *look) section(prefix string, was, now []byte, form Form) {
	before := len(l.found)
	l.strings(prefix, was, now, form)
	if len(l.found) == before {
		l.binary(prefix, was, now)
	}
}

func (l *look) pdf(prefix string, was, now []byte, _ int) {
	for _, key := range []string{"/CreationDate", "/ModDate", "/ID"} {
		a, b := pdfValue(was, key), pdfValue(now, key)
		cause := Clock
		if key == "/ID" {
			cause = Random
		}
		if a != b {
			l.add(prefix, "PDF "+key, a, b, cause, PDF)
		}
	}
}

func pdfValue(content []byte, key string) string {
	_, rest, found := bytes.Cut(content, []byte(key))
	if !found {
		return ""
	}
	end := bytes.IndexAny(rest, "\r\n/>")
	if end < 0 || end > 100 {
		end = min(100, len(rest))
	}
	return strings.TrimSpace(string(rest[:end]))
}
