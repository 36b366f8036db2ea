package order

import (
	"math/bits"
	"slices"
)

// Versions is a set of the versions of a history, by their numbers; 0 is the oldest that is known. The zero value is
// empty. Sets of one history may have different lengths.
type Versions []uint64

// With returns the set with a version added. The set itself may be changed.
func (v Versions) With(version int) Versions {
	for len(v) <= version/64 {
		v = append(v, 0)
	}
	v[version/64] |= 1 << (version % 64)
	return v
}

// Has reports whether a version is in the set.
func (v Versions) Has(version int) bool {
	return version/64 < len(v) && v[version/64]&(1<<(version%64)) != 0
}

// Len is how many versions are in the set.
func (v Versions) Len() (n int) {
	for _, word := range v {
		n += bits.OnesCount64(word)
	}
	return n
}

// Or returns the set with the versions of another one added. The set itself may be changed.
func (v Versions) Or(other Versions) Versions {
	for len(v) < len(other) {
		v = append(v, 0)
	}
	for i, word := range other {
		v[i] |= word
	}
	return v
}

// Clone copies a set.
func (v Versions) Clone() Versions { return slices.Clone(v) }

// key is the same for sets with the same versions.
func (v Versions) key() string {
	n := len(v)
	for n > 0 && v[n-1] == 0 {
		n--
	}
	text := make([]byte, 0, 8*n)
	for _, word := range v[:n] {
		for i := range 8 {
			text = append(text, byte(word>>(8*i)))
		}
	}
	return string(text)
}

// recency is what a version counts beside the one after it.
const recency = One * 95 / 100

// weights counts the versions of sets, recent ones more.
type weights struct {
	total Share
	bytes [][256]Share // by the place of a byte in a set
}

// newWeights is for a history of n versions.
func newWeights(n int) *weights {
	w := &weights{bytes: make([][256]Share, (n+63)/64*8)}
	single := make([]Share, len(w.bytes)*8)
	for i, weight := n-1, One; i >= 0; i-- {
		single[i] = weight
		w.total += weight
		weight = weight * recency >> shareBits
	}
	for place := range w.bytes {
		table := &w.bytes[place]
		for value := 1; value < 256; value++ {
			low := bits.TrailingZeros(uint(value))
			table[value] = table[value&(value-1)] + single[place*8+low]
		}
	}
	return w
}

// of returns the weight of a set's versions.
func (w *weights) of(v Versions) Share { return w.either(v, nil) }

// either returns the weight of the versions that are in one of two sets or in both.
func (w *weights) either(a, b Versions) (sum Share) {
	if len(a) < len(b) {
		a, b = b, a
	}
	for i, word := range a {
		if i < len(b) {
			word |= b[i]
		}
		for place := i * 8; word != 0; place, word = place+1, word>>8 {
			sum += w.bytes[place][byte(word)]
		}
	}
	return sum
}
