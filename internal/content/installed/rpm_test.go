package installed

import (
	"bytes"
	"database/sql"
	"encoding/binary"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"imbricat/internal/content/tree"
)

// headerOf writes a header of texts and numbers by their tags.
func headerOf(texts map[uint32][]string, numbers map[uint32][]uint32) []byte {
	var index, data bytes.Buffer
	entry := func(tag, kind, count uint32) {
		for _, n := range []uint32{tag, kind, uint32(data.Len()), count} {
			_ = binary.Write(&index, binary.BigEndian, n)
		}
	}
	for tag, list := range texts {
		entry(tag, map[bool]uint32{true: rpmString, false: rpmStrings}[len(list) == 1], uint32(len(list)))
		for _, text := range list {
			data.WriteString(text + "\x00")
		}
	}
	for tag, list := range numbers {
		entry(tag, rpmInt32, uint32(len(list)))
		for _, n := range list {
			_ = binary.Write(&data, binary.BigEndian, n)
		}
	}
	out := binary.BigEndian.AppendUint32(nil, uint32(len(texts)+len(numbers)))
	out = binary.BigEndian.AppendUint32(out, uint32(data.Len()))
	return append(append(out, index.Bytes()...), data.Bytes()...)
}

// TestRPM: packages of a database as rpm writes it; what is no header is passed over.
func TestRPM(t *testing.T) {
	name := filepath.Join(t.TempDir(), "rpmdb.sqlite")
	db, err := sql.Open("sqlite", name)
	require.NoError(t, err)
	_, err = db.Exec("PRAGMA journal_mode=WAL; CREATE TABLE Packages (hnum INTEGER PRIMARY KEY AUTOINCREMENT, blob BLOB NOT NULL)")
	require.NoError(t, err)
	tide := headerOf(map[uint32][]string{rpmName: {"tide"}, rpmVersion: {"1.2"}, rpmRelease: {"3.el9"}, rpmBaseNames: {"tide", "tide.conf"}, rpmDirNames: {"/usr/bin/", "/etc/"}}, map[uint32][]uint32{rpmDirIndexes: {0, 1}})
	for _, blob := range [][]byte{tide, headerOf(map[uint32][]string{rpmName: {"key"}}, nil), {1, 2, 3}, tide[:len(tide)-5],
		headerOf(map[uint32][]string{rpmName: {"astray"}, rpmBaseNames: {"x", "y"}, rpmDirNames: {"/"}}, map[uint32][]uint32{rpmDirIndexes: {0, 7}})} {
		_, err = db.Exec("INSERT INTO Packages (blob) VALUES (?)", blob)
		require.NoError(t, err)
	}
	require.NoError(t, db.Close())
	content, err := os.ReadFile(name)
	require.NoError(t, err)
	found, err := Look(&tree.Entry{Path: "usr/lib/sysimage/rpm/rpmdb.sqlite", Kind: tree.File, Size: int64(len(content))}, bytes.NewReader(content))
	require.NoError(t, err)
	require.Equal(t, []Package{{Manager: RPM, Name: "tide", Version: "1.2-3.el9", Files: []string{"usr/bin/tide", "etc/tide.conf"}}, {Manager: RPM, Name: "key"}}, found)
	require.Empty(t, rpmDatabase(bytes.NewReader(content[:5000])))
	// A question without an end is not asked.
	name = filepath.Join(t.TempDir(), "endless.sqlite")
	db, err = sql.Open("sqlite", name)
	require.NoError(t, err)
	_, err = db.Exec("CREATE VIEW Packages AS WITH RECURSIVE n(blob) AS (SELECT 1 UNION ALL SELECT 1 FROM n) SELECT blob FROM n")
	require.NoError(t, err)
	require.NoError(t, db.Close())
	content, err = os.ReadFile(name)
	require.NoError(t, err)
	require.Empty(t, rpmDatabase(bytes.NewReader(content)))
}
