package store

import (
	"cmp"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"imbricat/internal/ground/digest"
)

// Run is a finished run step: what the command learnt of what lay below, and the tree that it left.
type Run struct {
	Key    digest.Key `json:"key"`   // of the command with all that it is given
	Trace  digest.Key `json:"trace"` // names what it learnt; there may be several runs of one command
	Tree   digest.Key `json:"tree"`
	Log    digest.Key `json:"log"`             // of what it printed
	Reads  int        `json:"reads"`           // paths that it learnt something about
	Whole  string     `json:"whole,omitempty"` // why all that lay below counts
	Files  int        `json:"files"`
	Bytes  int64      `json:"bytes"`            // of the files
	Millis int64      `json:"millis"`           // of wall time
	CPU    int64      `json:"cpu"`              // of processor time, in milliseconds
	Memory int64      `json:"memory,omitempty"` // bytes that the largest of its processes had at once; 0: it is not known
	Made   time.Time  `json:"made"`
	Build  string     `json:"build,omitempty"`  // the build that ran it
	Shared bool       `json:"shared,omitempty"` // it came from another machine
	Kept   []string   `json:"kept,omitempty"`   // kept directories that the command had
	// Reached is what the command reached of the hosts that it may, or was kept from.
	Reached []Reached `json:"reached,omitempty"`
	// Over are the unpacked trees that lay below the command, lowest first; none where it worked on a copy.
	Over []digest.Key `json:"over,omitempty"`
	// Parts are the records of layers that hold the tree's files together, where none holds them all.
	Parts []digest.Key `json:"parts,omitempty"`
}

// More kinds of what only saves work.
const (
	runs      = "runs"      // run records, by the keys of their commands and their traces
	traces    = "traces"    // what commands learnt, by the hash of that
	indexes   = "indexes"   // entries of trees, by the trees' keys
	logs      = "logs"      // what commands printed, by the hash of that
	snapshots = "snapshots" // unpacked trees, by the form of the folders and the trees' keys
	benches   = "workbenches"
	keptKind  = "kept" // kept directories, by who owns them and their names
)

// MostRuns is how many runs of one command are kept; those that were not used for longest go first.
const MostRuns = 24

func (s *Store) runsFolder(key digest.Key) (string, error) { return s.fileFor(runs, string(key), "") }

func (s *Store) runFile(key, trace digest.Key) (string, error) {
	folder, err := s.runsFolder(key)
	if err != nil {
		return "", err
	}
	if _, err := s.fileFor(traces, string(trace), ""); err != nil {
		return "", err
	}
	return filepath.Join(folder, hexOf(string(trace))+".json"), nil
}

// Runs returns the runs of a command, the latest first. Damaged ones count as absent.
func (s *Store) Runs(key digest.Key) []*Run {
	folder, err := s.runsFolder(key)
	if err != nil {
		return nil
	}
	names, err := os.ReadDir(s.path(folder))
	if err != nil {
		return nil
	}
	var all []*Run
	for _, entry := range names {
		text, err := os.ReadFile(s.path(folder, entry.Name()))
		var r Run
		if err == nil && Unseal(text, &r) == nil && r.Key == key && hexOf(string(r.Trace))+".json" == entry.Name() {
			all = append(all, &r)
		}
	}
	slices.SortFunc(all, func(a, b *Run) int {
		return cmp.Or(b.Made.Compare(a.Made), strings.Compare(string(a.Tree), string(b.Tree)))
	})
	return all
}

// RelyOnRun marks a run with all that belongs to it as used.
func (s *Store) RelyOnRun(r *Run) bool {
	name, err := s.runFile(r.Key, r.Trace)
	if err != nil || !s.rely(s.path(name)) {
		return false
	}
	for kind, id := range map[string]digest.Key{traces: r.Trace, logs: r.Log, indexes: r.Tree} {
		if name, err := s.fileFor(kind, string(id), ".zst"); err == nil {
			s.rely(s.path(name))
		}
	}
	return true
}

// PutRun keeps that a command ran. Its trace, its log and the entries of its tree are kept before.
func (s *Store) PutRun(r *Run) error {
	name, err := s.runFile(r.Key, r.Trace)
	if err != nil {
		return err
	}
	text, err := Seal(r)
	if err != nil {
		return err
	}
	if err := s.WriteFile(name, text); err != nil {
		return err
	}
	return s.limitRuns(s.path(filepath.Dir(name)))
}

// ImportRun keeps a run that came from elsewhere, and can be had again from there. One that is here stays.
func (s *Store) ImportRun(r *Run) error {
	name, err := s.runFile(r.Key, r.Trace)
	if err != nil {
		return err
	}
	if _, err := os.Stat(s.path(name)); err == nil {
		return nil
	}
	own := *r
	own.Reached = own.Reached[:min(len(own.Reached), MostReached)]
	text, err := Seal(&own)
	if err != nil {
		return err
	}
	return s.WriteQuick(name, text)
}

// limitRuns removes the runs of one command that were not used for longest.
func (s *Store) limitRuns(folder string) error {
	names, err := os.ReadDir(folder)
	if err != nil || len(names) <= MostRuns {
		return err
	}
	used := map[string]time.Time{}
	var all []string
	for _, entry := range names {
		if info, err := entry.Info(); err == nil && strings.HasSuffix(entry.Name(), ".json") {
			all, used[entry.Name()] = append(all, entry.Name()), info.ModTime()
		}
	}
	slices.SortFunc(all, func(a, b string) int { return used[b].Compare(used[a]) })
	for _, name := range all[min(MostRuns, len(all)):] {
		os.Remove(filepath.Join(folder, name))
	}
	return nil
}

// Trace returns what a command learnt, encoded.
func (s *Store) Trace(id digest.Key) ([]byte, bool) { return s.kept(traces, string(id)) }

// PutTrace keeps what a command learnt.
func (s *Store) PutTrace(id digest.Key, text []byte) error { return s.keep(traces, string(id), text) }

// Log returns what a command printed.
func (s *Store) Log(id digest.Key) ([]byte, bool) { return s.kept(logs, string(id)) }

// PutLog keeps what a command printed, and gives the name of that.
func (s *Store) PutLog(log []byte) (digest.Key, error) {
	id := digest.Key(digest.ContentBytes(log))
	return id, s.keep(logs, string(id), log)
}

// TreeEntries returns the entries of a tree, as lines.
func (s *Store) TreeEntries(tree digest.Key) ([]byte, bool) { return s.kept(indexes, string(tree)) }

// HasTreeEntries reports whether the entries of a tree are kept; they stay while the store is open.
func (s *Store) HasTreeEntries(tree digest.Key) bool {
	name, err := s.fileFor(indexes, string(tree), ".zst")
	return err == nil && s.rely(s.path(name))
}

// DropTreeEntries forgets the entries of a tree that were found to be wrong.
func (s *Store) DropTreeEntries(tree digest.Key) { s.drop(indexes, string(tree)) }

// PutTreeEntries keeps the entries of a tree.
func (s *Store) PutTreeEntries(tree digest.Key, entries []byte) error {
	return s.keep(indexes, string(tree), entries)
}
