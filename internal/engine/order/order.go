// Package order decides which files share a layer and which layer lies on which.
//
// It is arithmetic on paths, sizes and histories that it is given, in fixed point, so that every processor decides alike.
// It reads nothing, knows no image and keeps no state.
package order

import "math/bits"

// Share is a part of one, or a hazard, in units of 1/One.
type Share = int64

// One is the whole that shares are parts of.
const One Share = 1 << shareBits

const shareBits = 20

// Tuning are the numbers of the method. Default holds those that docs/ordering.md was measured with.
type Tuning struct {
	Horizon  int64 // how many versions a division is expected to serve
	Overhead int64 // what a layer costs besides its bytes, in bytes
	Prior    Share // how many versions without a change are taken to have gone before the first known one
	Shrink   Share // how many versions of its component's mean rate are mixed into the rate of a unit
	Novel    Share // how much a component is expected to change in ways that it never did, in versions
	Pieces   int64 // a component that is no package has at most one in so many of the items and of the bytes
	Rounds   int   // of moving single units after the agglomeration
}

// Default is what a Divide without tuning uses.
var Default = Tuning{Horizon: 4, Overhead: 8 << 10, Prior: One / 2, Shrink: 8 * One, Novel: 2 * One / 5, Pieces: 64, Rounds: 2}

// Item is a path that a layer can hold, with all that cannot be parted from it.
type Item struct {
	Path    string   // slashes, no leading one
	Size    int64    // bytes that it takes in a layer
	Changes Versions // of the known history: those in which it came or differed from the version before
	Hint    Hint
}

// Hint is what a person says of a path; it goes before all that is measured.
type Hint int8

// The hints. The zero value says nothing.
const (
	Steady Hint = iota - 1
	Unhinted
	Lively
)

// Part is one of the layers into which items are divided.
type Part struct {
	Items  []int // indexes, rising
	Size   int64 // bytes
	Chance Share // of versions in which it is expected to differ
	Old    int   // the layer of the version before that it is unchanged, or -1
}

// survivals are exp(-i/64).
var survivals = func() (table [14*64 + 2]Share) {
	// exp(-1/64) by its series
	x := int64(1) << fine / 64
	x2 := mulFine(x, x)
	x3 := mulFine(x2, x)
	x4 := mulFine(x3, x)
	step := int64(1)<<fine - x + x2/2 - x3/6 + x4/24
	value := int64(1) << fine
	for i := range table {
		table[i] = value >> (fine - shareBits)
		value = mulFine(value, step)
	}
	return table
}()

// survival returns exp(-h) for a hazard h, by interpolation that is right to 1 in 10,000.
func survival(h Share) Share {
	if h <= 0 {
		return One
	}
	at, rest := h>>(shareBits-6), h&(One>>6-1)
	if at >= 14*64 {
		return 0
	}
	return survivals[at] - (survivals[at]-survivals[at+1])*rest>>(shareBits-6)
}

// hazard returns -ln(1-q), the inverse of survival.
func hazard(q Share) Share {
	low, high := int64(0), 14*One
	for low < high {
		middle := (low + high) / 2
		if One-survival(middle) < q {
			low = middle + 1
		} else {
			high = middle
		}
	}
	return low
}

// root returns the square root of a whole number, as a share.
func root(n int64) Share {
	wanted := uint64(n) << shareBits
	r := uint64(0)
	for bit := uint64(1) << 31; bit > 0; bit >>= 1 {
		if (r|bit)*(r|bit) <= wanted {
			r |= bit
		}
	}
	return int64(r) << (shareBits / 2)
}

// fine is how many bits stand behind the point where exponentials are worked out.
const fine = 40

// mulFine returns a·b/2^fine for numbers that are not negative, without losing what is above 64 bits in between.
func mulFine(a, b int64) int64 {
	high, low := bits.Mul64(uint64(a), uint64(b))
	return int64(high<<(64-fine) | low>>fine)
}

// most is the largest number there is; sums of few of its fourths do not overflow.
const most = int64(1) << 61

// times returns a share of a number of bytes, at most the largest number.
func times(bytes int64, share Share) int64 {
	high, low := bits.Mul64(uint64(bytes), uint64(share))
	if high>>(shareBits-3) != 0 {
		return most
	}
	return int64(high<<(64-shareBits) | low>>shareBits)
}

// ratio returns a/b; b is not 0.
func ratio(a, b int64) Share {
	if a < 1<<42 {
		return (a << shareBits) / b
	}
	high, low := bits.Mul64(uint64(a), uint64(One))
	if high >= uint64(b) {
		return most
	}
	quotient, _ := bits.Div64(high, low, uint64(b))
	return int64(min(quotient, uint64(most)))
}
