// Package once does each piece of work once, however many ask for it. It knows nothing of what the work is.
package once

import (
	"context"
	"sync"
)

// Map keeps the outcomes of work by key. The work ends with the context that the map was made with, and never with that of
// whoever asked first, whose end is no matter of the others.
type Map[K comparable, V any] struct {
	ctx   context.Context
	mutex sync.Mutex
	all   map[K]*outcome[V]
}

type outcome[V any] struct {
	done  chan struct{}
	value V
	err   error
}

// NewMap makes a map whose work ends with ctx.
func NewMap[K comparable, V any](ctx context.Context) *Map[K, V] {
	return &Map[K, V]{ctx: ctx, all: map[K]*outcome[V]{}}
}

// Do returns the outcome of work under a key. Whoever waits for another to do it can be ended by its own ctx.
func (m *Map[K, V]) Do(ctx context.Context, key K, work func(ctx context.Context) (V, error)) (V, error) {
	m.mutex.Lock()
	one, known := m.all[key]
	if !known {
		one = &outcome[V]{done: make(chan struct{})}
		m.all[key] = one
	}
	m.mutex.Unlock()
	if !known {
		defer close(one.done)
		one.value, one.err = work(m.ctx)
		return one.value, one.err
	}
	select {
	case <-one.done:
		return one.value, one.err
	case <-ctx.Done():
		var none V
		return none, ctx.Err()
	}
}

// Try is Do, but a failure is told to those who wait for it and to nobody later: whoever asks next tries again.
func (m *Map[K, V]) Try(ctx context.Context, key K, work func(ctx context.Context) (V, error)) (V, error) {
	return m.Do(ctx, key, func(ctx context.Context) (V, error) {
		value, err := work(ctx)
		if err != nil {
			m.Forget(key)
		}
		return value, err
	})
}

// Forget has work under a key done again by whoever asks next.
func (m *Map[K, V]) Forget(key K) {
	m.mutex.Lock()
	defer m.mutex.Unlock()
	delete(m.all, key)
}

// Each visits the outcomes of work that succeeded. No work may be going on.
func (m *Map[K, V]) Each(visit func(V)) {
	m.mutex.Lock()
	defer m.mutex.Unlock()
	for _, one := range m.all {
		if one.err == nil {
			visit(one.value)
		}
	}
}

// Value is read or worked out once. A failure that the end of whoever asked caused is no outcome: the next one asks again.
type Value[V any] struct {
	turn chan struct{}
	load func(ctx context.Context) (V, error)
	// Both are set by whoever has the turn.
	known bool
	value V
	err   error
}

// NewValue gives a value that load gives when it is first needed.
func NewValue[V any](load func(ctx context.Context) (V, error)) *Value[V] {
	return &Value[V]{turn: make(chan struct{}, 1), load: load}
}

// Known gives a value that is there.
func Known[V any](value V) *Value[V] {
	return &Value[V]{turn: make(chan struct{}, 1), known: true, value: value}
}

// Get returns the value.
func (v *Value[V]) Get(ctx context.Context) (V, error) {
	select {
	case v.turn <- struct{}{}:
	case <-ctx.Done():
		var none V
		return none, ctx.Err()
	}
	defer func() { <-v.turn }()
	if !v.known {
		value, err := v.load(ctx)
		if err != nil && ctx.Err() != nil {
			return value, err
		}
		v.value, v.err, v.known, v.load = value, err, true, nil
	}
	return v.value, v.err
}
