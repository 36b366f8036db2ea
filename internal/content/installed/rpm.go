package installed

import (
	"bytes"
	"context"
	"database/sql"
	"encoding/binary"
	"io"
	"path"
	"time"

	_ "modernc.org/sqlite" // the form of rpm's database since 4.16
)

// mostRPM bounds how long a database is read.
const mostRPM = 30 * time.Second

// rpmDatabase reads the database of rpm, in any of its forms, of which it is all in memory.
func rpmDatabase(text io.Reader) (all []Package) {
	content, err := io.ReadAll(text)
	if err != nil {
		return nil
	}
	paths := 0
	add := func(blob []byte) bool {
		if one := rpmHeader(blob); one != nil {
			paths += 1 + len(one.Files)
			all = append(all, *one)
		}
		return paths < maxOwned
	}
	if bytes.HasPrefix(content, []byte("SQLite format 3\x00")) && len(content) >= 100 {
		if !sqliteDatabase(content, add) {
			return nil
		}
		return all
	}
	hashDatabase(content, add)
	slotDatabase(content, add)
	return all
}

// sqliteDatabase visits the headers of a database of SQLite; false: it could not be read.
func sqliteDatabase(content []byte, visit func(blob []byte) bool) bool {
	// One that was written ahead of its file cannot be opened from memory: its mark says so, and what it has is all there.
	content[18], content[19] = 1, 1
	db, err := sql.Open("sqlite", ":memory:")
	if err != nil {
		return false
	}
	defer db.Close()
	conn, err := db.Conn(context.Background())
	if err != nil {
		return false
	}
	defer conn.Close()
	if err := conn.Raw(func(driver any) error {
		return driver.(interface{ Deserialize(content []byte) error }).Deserialize(content)
	}); err != nil {
		return false
	}
	// The database is anybody's: what calls itself so may be a question without an end.
	ctx, cancel := context.WithTimeout(context.Background(), mostRPM)
	defer cancel()
	var plain bool
	err = conn.QueryRowContext(ctx, "SELECT count(*) = 1 FROM sqlite_schema WHERE name = 'Packages' AND type = 'table' AND sql LIKE 'CREATE TABLE%' AND sql NOT LIKE '% AS %'").Scan(&plain)
	if err != nil || !plain {
		return false
	}
	rows, err := conn.QueryContext(ctx, "SELECT blob FROM Packages")
	if err != nil {
		return false
	}
	defer rows.Close()
	for rows.Next() {
		var blob []byte
		if rows.Scan(&blob) != nil || !visit(blob) {
			break
		}
	}
	return rows.Err() == nil
}

// Tags and types of a header, as in the documentation of rpm's file format.
const (
	rpmName       = 1000
	rpmVersion    = 1001
	rpmRelease    = 1002
	rpmDirIndexes = 1116
	rpmBaseNames  = 1117
	rpmDirNames   = 1118

	rpmInt32   = 4
	rpmString  = 6
	rpmStrings = 8
)

// rpmHeader reads a header: the number of its entries and of the bytes of its data, entries of a tag, a type, where it begins and how many there
// are, and the data. All numbers have four bytes, the most significant first.
func rpmHeader(blob []byte) *Package {
	if len(blob) < 8 {
		return nil
	}
	entries, size := binary.BigEndian.Uint32(blob), binary.BigEndian.Uint32(blob[4:])
	index := blob[8:]
	if uint64(entries)*16+uint64(size) > uint64(len(index)) {
		return nil
	}
	data := index[entries*16:][:size]
	texts, numbers := map[uint32][]string{}, map[uint32][]uint32{}
	for i := range entries {
		e := index[i*16:]
		tag, kind, begins, count := binary.BigEndian.Uint32(e), binary.BigEndian.Uint32(e[4:]), binary.BigEndian.Uint32(e[8:]), binary.BigEndian.Uint32(e[12:])
		if begins > size {
			return nil
		}
		rest := data[begins:]
		switch {
		case kind == rpmString || kind == rpmStrings:
			for range min(count, maxOwned) {
				text, after, is := bytes.Cut(rest, []byte{0})
				if !is {
					return nil
				}
				texts[tag] = append(texts[tag], string(text))
				rest = after
			}
		case kind == rpmInt32 && uint64(count)*4 <= uint64(len(rest)):
			for n := range count {
				numbers[tag] = append(numbers[tag], binary.BigEndian.Uint32(rest[n*4:]))
			}
		}
	}
	first := func(tag uint32) string {
		if len(texts[tag]) == 0 {
			return ""
		}
		return texts[tag][0]
	}
	one := &Package{Manager: RPM, Name: first(rpmName), Version: first(rpmVersion)}
	if one.Name == "" {
		return nil
	}
	if release := first(rpmRelease); release != "" {
		one.Version += "-" + release
	}
	for i, name := range texts[rpmBaseNames] {
		if i >= len(numbers[rpmDirIndexes]) || int(numbers[rpmDirIndexes][i]) >= len(texts[rpmDirNames]) {
			return nil
		}
		if file := clean(path.Join(texts[rpmDirNames][numbers[rpmDirIndexes][i]], name)); file != "" {
			one.Files = append(one.Files, file)
		}
	}
	return one
}
