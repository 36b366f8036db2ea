package build

import "sync"

// flights does each piece of work once, however many goroutines ask for it, and keeps the outcome.
type flights[K comparable, V any] struct {
	mutex sync.Mutex
	all   map[K]*flight[V]
}

type flight[V any] struct {
	once  sync.Once
	value V
	err   error
}

// do gives the outcome of work under a key. first tells whether this call did it.
func (f *flights[K, V]) do(key K, work func() (V, error)) (value V, first bool, err error) {
	f.mutex.Lock()
	if f.all == nil {
		f.all = map[K]*flight[V]{}
	}
	one, known := f.all[key]
	if !known {
		one = &flight[V]{}
		f.all[key] = one
	}
	f.mutex.Unlock()
	one.once.Do(func() {
		first = true
		one.value, one.err = work()
	})
	return one.value, first, one.err
}

// forget has work under a key done again by whoever asks next.
func (f *flights[K, V]) forget(key K) {
	f.mutex.Lock()
	defer f.mutex.Unlock()
	delete(f.all, key)
}

// each visits the outcomes of work that succeeded.
func (f *flights[K, V]) each(visit func(V)) {
	f.mutex.Lock()
	defer f.mutex.Unlock()
	for _, one := range f.all {
		if one.err == nil {
			visit(one.value)
		}
	}
}
