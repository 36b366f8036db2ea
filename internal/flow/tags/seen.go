package tags

import (
	"encoding/json"
	"slices"
	"sync"
	"time"

	"imbricat/internal/content/store"
	"imbricat/internal/ground/digest"
)

// Seen remembers what this machine saw tags stand on, and wrote. It notes in memory, and Keep puts that into the store. It
// implements registry.TagMemory.
type Seen struct {
	mutex sync.Mutex
	fresh map[string][]sighting // by repository
	wrote bool
	now   func() time.Time // nil: the clock
}

// sighting is a tag on something.
type sighting struct {
	Tag    string        `json:"tag"`
	Digest digest.Digest `json:"digest"`
	Time   time.Time     `json:"time"`
	Wrote  bool          `json:"wrote,omitempty"` // this machine did
	Why    string        `json:"why,omitempty"`
}

// mostSeen bounds what is remembered of a repository: the newest.
const mostSeen = 5000

// Wrote notes a tag that this machine wrote.
func (s *Seen) Wrote(repository, tag string, d digest.Digest) { s.note(repository, tag, d, true) }

// Saw notes a tag as it was found.
func (s *Seen) Saw(repository, tag string, d digest.Digest) { s.note(repository, tag, d, false) }

func (s *Seen) note(repository, tag string, d digest.Digest, wrote bool) {
	s.mutex.Lock()
	defer s.mutex.Unlock()
	if s.fresh == nil {
		s.fresh = map[string][]sighting{}
	}
	now := time.Now
	if s.now != nil {
		now = s.now
	}
	s.wrote = s.wrote || wrote
	s.fresh[repository] = append(s.fresh[repository], sighting{Tag: tag, Digest: d, Time: now().UTC().Truncate(time.Second), Wrote: wrote})
}

// because gives the last thing that was noted of a tag a reason.
func (s *Seen) because(repository, tag, why string) {
	s.mutex.Lock()
	defer s.mutex.Unlock()
	list := s.fresh[repository]
	for i := len(list) - 1; i >= 0; i-- {
		if list[i].Tag == tag {
			list[i].Why = why
			return
		}
	}
}

// Wrote reports whether anything was written.
func (s *Seen) Written() bool {
	s.mutex.Lock()
	defer s.mutex.Unlock()
	return s.wrote
}

func memoOf(repository string) string {
	return "seen-" + digest.FromBytes([]byte(repository)).Encoded() + ".json"
}

// recall returns what is remembered of a repository.
func recall(st *store.Store, repository string) (list []sighting) {
	if text, there := st.Memo(memoOf(repository)); there {
		_ = json.Unmarshal(text, &list) // what is damaged is lost, as it only helps
	}
	return list
}

// Keep puts what was noted into the store: what a tag was not known to stand on last.
func (s *Seen) Keep(st *store.Store) error {
	s.mutex.Lock()
	defer s.mutex.Unlock()
	for repository, fresh := range s.fresh {
		list := recall(st, repository)
		before, last := len(list), map[string]digest.Digest{}
		for _, one := range list {
			last[one.Tag] = one.Digest
		}
		for _, one := range fresh {
			if last[one.Tag] != one.Digest {
				list, last[one.Tag] = append(list, one), one.Digest
			}
		}
		if len(list) == before {
			continue
		}
		text, err := json.Marshal(list[max(0, len(list)-mostSeen):])
		if err != nil {
			return err
		}
		if err := st.PutMemo(memoOf(repository), text); err != nil {
			return err
		}
	}
	s.fresh = nil
	return nil
}

// of returns what is known of a tag, what was noted now included, the oldest first.
func (s *Seen) of(st *store.Store, repository, tag string) []sighting {
	s.mutex.Lock()
	defer s.mutex.Unlock()
	all := slices.Concat(recall(st, repository), s.fresh[repository])
	return slices.DeleteFunc(all, func(one sighting) bool { return one.Tag != tag })
}
