package installed

import (
	"bufio"
	"bytes"
	"compress/flate"
	"encoding/binary"
	"errors"
	"io"
	"path"
	"regexp"
	"strings"

	"github.com/magiconair/properties"
)

var jarName = regexp.MustCompile(`^(.+?)-([0-9][0-9A-Za-z.+_-]*)\.[jwe]ar$`)

func isJar(p string) bool {
	return strings.HasSuffix(p, ".jar") || strings.HasSuffix(p, ".war") || strings.HasSuffix(p, ".ear")
}

// jarNamed is what the name of a jar tells.
func jarNamed(p string) Package {
	name := path.Base(p)
	if parts := jarName.FindStringSubmatch(name); parts != nil {
		return Package{Manager: Java, Name: parts[1], Version: parts[2]}
	}
	return Package{Manager: Java, Name: strings.TrimSuffix(name, path.Ext(name))}
}

// jar goes by the file's name, by the properties that Maven's builds put into it, and by its manifest; and it tells of the jars in it.
func jar(p string, text io.Reader) []Package {
	read := &jarReader{left: jarUnpacked}
	own := read.jar(p, &counted{Reader: bufio.NewReader(text)}, 0)
	own.Folder = p
	return append([]Package{own}, read.inside...)
}

const (
	// jarUnpacked bounds what is unpacked of one jar, to look at what is there or to find what follows: bytes, and 100 more for each that was read.
	jarUnpacked = 64 << 20
	jarShare    = 100
	jarDepth    = 3       // of jars in jars
	jarEntries  = 200_000 // of all of these
	jarText     = 1 << 20 // bytes of a manifest or properties
)

// jarReader reads a jar from its beginning to its end, as zip archives can be: see APPNOTE.TXT, 4.3 and 4.4. Their directory is at the end, and is
// not looked at.
type jarReader struct {
	left    int64 // bytes that may be unpacked
	entries int
	inside  []Package
}

// jar reads one, and adds what is in it to the packages inside. What cannot be read ends it.
func (j *jarReader) jar(p string, r *counted, depth int) Package {
	own := jarNamed(p)
	var manifest string
	var poms []Package
	for {
		e, err := nextEntry(r)
		if err != nil || j.entries >= jarEntries {
			break
		}
		j.entries++
		begins := r.n
		body, err := j.open(r, e)
		if err != nil {
			break
		}
		var nested *Package
		switch {
		case e.name == "META-INF/MANIFEST.MF":
			manifest = shortText(body)
		case strings.HasPrefix(e.name, "META-INF/maven/") && path.Base(e.name) == "pom.properties":
			if one := pomProperties(shortText(body)); one != nil {
				poms = append(poms, *one)
			}
		case isJar(e.name) && depth+1 < jarDepth:
			one := j.jar(p+"!/"+e.name, &counted{Reader: bufio.NewReader(body)}, depth+1)
			nested = &one
		case isJar(e.name):
			one := jarNamed(e.name)
			nested = &one
		}
		if _, err := io.Copy(io.Discard, body); err != nil {
			break
		}
		if nested != nil {
			nested.Inside, nested.Size = p+"!/"+e.name, r.n-begins
			if depth > 0 { // its bytes are those of the one that it is in
				nested.Size = 0
			}
			j.inside = append(j.inside, *nested)
		}
		if e.described && skipDescriptor(r) != nil {
			break
		}
	}
	j.poms(p, &own, poms)
	if own.Version == "" {
		own.Version = manifestVersion(manifest)
	}
	return own
}

// poms takes the jar's own name from the properties in it. Where there are several, the jar was put together of several: those are in it too.
func (j *jarReader) poms(p string, own *Package, poms []Package) {
	if len(poms) == 1 {
		own.Name, own.Version = poms[0].Name, poms[0].Version
		return
	}
	for _, one := range poms {
		if one.Name == own.Name {
			own.Version = one.Version
			continue
		}
		one.Inside = p + "!/" + one.Name
		j.inside = append(j.inside, one)
	}
}

// counted counts what was read, and reads byte by byte where it is asked to, so that no more is taken than is needed.
type counted struct {
	*bufio.Reader
	n int64
}

func (c *counted) Read(p []byte) (int, error) {
	n, err := c.Reader.Read(p)
	c.n += int64(n)
	return n, err
}

func (c *counted) ReadByte() (byte, error) {
	b, err := c.Reader.ReadByte()
	if err == nil {
		c.n++
	}
	return b, err
}

// jarEntry is the head of an entry.
type jarEntry struct {
	name      string
	method    uint16
	described bool // sizes stand behind the entry
	packed    int64
}

var errZip = errors.New("no entry of a zip archive")

// nextEntry reads the head of the next entry.
func nextEntry(r *counted) (e jarEntry, err error) {
	var head [30]byte
	if _, err = io.ReadFull(r, head[:]); err != nil || !bytes.HasPrefix(head[:], []byte("PK\x03\x04")) {
		return e, errZip
	}
	flags := binary.LittleEndian.Uint16(head[6:])
	e.method, e.described = binary.LittleEndian.Uint16(head[8:]), flags&8 != 0
	e.packed = int64(binary.LittleEndian.Uint32(head[18:]))
	name, extra := make([]byte, binary.LittleEndian.Uint16(head[26:])), make([]byte, binary.LittleEndian.Uint16(head[28:]))
	if _, err = io.ReadFull(r, name); err != nil || flags&1 != 0 { // encrypted
		return e, errZip
	}
	if _, err = io.ReadFull(r, extra); err != nil {
		return e, errZip
	}
	e.name = string(name)
	for e.packed == 1<<32-1 && len(extra) >= 4 { // sizes of more stand in a field of their own, the unpacked one first
		id, size := binary.LittleEndian.Uint16(extra), int(binary.LittleEndian.Uint16(extra[2:]))
		if size > len(extra)-4 {
			break
		}
		if id == 1 && size >= 16 {
			if e.packed = int64(binary.LittleEndian.Uint64(extra[12:])); e.packed < 0 {
				return e, errZip
			}
			break
		}
		extra = extra[4+size:]
	}
	return e, nil
}

// open returns what an entry holds. Reading it to its end leaves r behind it; what is neither stored nor deflated reads as nothing.
func (j *jarReader) open(r *counted, e jarEntry) (io.Reader, error) {
	packed := io.LimitReader(r, e.packed)
	switch {
	case e.method == 8 && e.described:
		return j.bounded(flate.NewReader(r), r), nil
	case e.described && e.packed == 0: // stored, nobody says how much
		return nil, errZip
	case e.method == 8 && (isJar(e.name) || strings.HasPrefix(e.name, "META-INF/")):
		return &thenRest{j.bounded(flate.NewReader(packed), r), packed}, nil
	default:
		return packed, nil
	}
}

// bounded unpacks no more than what is left, and a share of what r gives.
func (j *jarReader) bounded(unpacked io.Reader, r *counted) io.Reader {
	return &unpacking{j, unpacked, r, r.n}
}

type unpacking struct {
	j    *jarReader
	from io.Reader
	r    *counted
	seen int64
}

func (u *unpacking) Read(p []byte) (int, error) {
	u.j.left += jarShare * (u.r.n - u.seen)
	u.seen = u.r.n
	if u.j.left <= 0 {
		return 0, errZip
	}
	n, err := u.from.Read(p)
	u.j.left -= int64(n)
	return n, err
}

// thenRest reads what is unpacked, and then past what was not needed for it.
type thenRest struct {
	io.Reader
	packed io.Reader
}

func (t *thenRest) Read(p []byte) (int, error) {
	n, err := t.Reader.Read(p)
	if err == io.EOF {
		if _, rest := io.Copy(io.Discard, t.packed); rest != nil {
			return n, rest
		}
	}
	return n, err
}

// skipDescriptor reads the sizes behind an entry: with a mark before them or not, of four bytes or eight. What follows tells which.
func skipDescriptor(r *counted) error {
	for _, size := range []int{16, 12, 24, 20} {
		text, err := r.Peek(size + 4)
		if err != nil && len(text) < size {
			continue
		}
		marked := bytes.HasPrefix(text, []byte("PK\x07\x08"))
		if marked == (size%8 == 4) { // with a mark, 4 bytes more
			continue
		}
		if next := text[size:]; len(next) == 4 && bytes.HasPrefix(next, []byte("PK")) && next[2] < 9 && next[3] < 9 {
			_, err := io.CopyN(io.Discard, r, int64(size))
			return err
		}
	}
	return errZip
}

func shortText(body io.Reader) string {
	text, err := io.ReadAll(io.LimitReader(body, jarText))
	if err != nil {
		return ""
	}
	return string(text)
}

func pomProperties(text string) *Package {
	load := properties.Loader{Encoding: properties.ISO_8859_1, DisableExpansion: true}
	said, err := load.LoadBytes([]byte(text))
	if err != nil || said.GetString("artifactId", "") == "" {
		return nil
	}
	return &Package{Manager: Java, Name: said.GetString("artifactId", ""), Version: said.GetString("version", "")}
}

// manifestVersion returns the version that the main part of a manifest tells.
func manifestVersion(manifest string) string {
	said := map[string]string{}
	headed := true
	lines(strings.NewReader(manifest), func(line string) {
		headed = headed && line != ""
		if name, value, is := strings.Cut(line, ": "); is && headed {
			said[name] = strings.TrimSpace(value)
		}
	})
	if said["Implementation-Version"] != "" {
		return said["Implementation-Version"]
	}
	return said["Bundle-Version"]
}
