// Package count counts what costs time: files opened, trees compared, what is waited for. A test holds the numbers of some builds, so that work
// which is done twice is seen on every machine. Counting decides nothing.
package count

import (
	"maps"
	"slices"
	"sync"
	"sync/atomic"
)

// Counter counts one kind of work of this process.
type Counter struct{ n atomic.Int64 }

var (
	mutex sync.Mutex
	all   = map[string]*Counter{}
)

// New returns the counter of a name, for the life of the process.
func New(name string) *Counter {
	mutex.Lock()
	defer mutex.Unlock()
	if all[name] == nil {
		all[name] = &Counter{}
	}
	return all[name]
}

// Add counts so much more.
func (c *Counter) Add(n int64) { c.n.Add(n) }

// N returns what was counted.
func (c *Counter) N() int64 { return c.n.Load() }

// Count is what was counted under a name.
type Count struct {
	Name string
	N    int64
}

// Counts returns all counts, by their names.
func Counts() (list []Count) {
	mutex.Lock()
	defer mutex.Unlock()
	for _, name := range slices.Sorted(maps.Keys(all)) {
		list = append(list, Count{name, all[name].n.Load()})
	}
	return list
}
