package census

import (
	"slices"

	"imbricat/internal/content/tree"
)

// Findings are paths with a leading slash of what is doubtful among entries.
type Findings struct {
	Programs      []Program
	Secrets       []string // what is likely a key or a token
	SetUID        []string
	WorldWritable []string
	Unlike        []string // of what a command left: files that are known to differ each time
}

// Program is a program with the architecture that it is for.
type Program struct{ Path, Architecture string }

// Find looks at entries.
func (m *Classes) Find(entries []tree.Entry) *Findings {
	found := &Findings{}
	for i := range entries {
		e := &entries[i]
		if e.Kind != tree.File && e.Kind != tree.Folder {
			continue
		}
		if e.Kind == tree.File && e.Mode&0o6000 != 0 {
			found.SetUID = append(found.SetUID, "/"+e.Path)
		}
		if e.Mode&0o002 != 0 && e.Mode&0o1000 == 0 {
			found.WorldWritable = append(found.WorldWritable, "/"+e.Path)
		}
		if e.Kind != tree.File {
			continue
		}
		switch mark := m.Of(e.Content); {
		case mark == Secret:
			found.Secrets = append(found.Secrets, "/"+e.Path)
		case mark.Program() != "":
			found.Programs = append(found.Programs, Program{"/" + e.Path, mark.Program()})
		}
	}
	return found
}

// runsToo are programs that an architecture runs beside its own.
var runsToo = map[string][]string{"amd64": {"386"}, "arm64": {"arm"}}

// Runs reports whether machines of an architecture run the program.
func (p Program) Runs(architecture string) bool {
	return p.Architecture == architecture || slices.Contains(runsToo[architecture], p.Architecture)
}
