package layer

import (
	"cmp"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"

	"imbricat/internal/content/tree"
)

// Weights are the bytes of a blob that what it holds takes, in the order of the index: each entry's share, header and padding
// included, of the block of the archive that it lies in. With Doubled and Rest they are the whole blob.
type Weights struct {
	Packed  []int64
	Doubled []Doubled
	Rest    int64 // what belongs to no entry: the end of the archive where nothing comes before it
}

// Doubled is an entry of an archive that a later one of the same path replaces: nobody ever sees it.
type Doubled struct {
	Path         string
	Packed, Size int64
}

// Weigh reads a layer's blob to its end, and weighs what it holds. Look is shown every file with its bytes, of which it need not read all; nil:
// nothing is looked at. What the layer's diffID is is not worked out, so the index is empty of it, and none to be kept as that of a diffID.
func Weigh(blob io.Reader, look func(e *tree.Entry, body io.Reader) error) (*Indexed, *Weights, error) {
	w := &weigher{look: look, weights: &Weights{}}
	indexed, err := index(blob, false, w)
	return indexed, w.weights, err
}

// weighBlock is how many bytes of an archive share what they are packed into. Compression works on windows of this order, so that less tells nothing.
const weighBlock = 256 << 10

// weigher counts what entries take while an index is made. A nil weigher does nothing.
type weigher struct {
	look    func(e *tree.Entry, body io.Reader) error
	weights *Weights
	plain   *unpacking
	counted *counter

	block   []weighed // entries of the block that is open
	begins  [2]int64  // where it begins, in the archive and in the blob
	ends    [2]int64  // where the last entry ends
	sizes   []int64   // of the files of the index
	byIndex []int64   // what entries take
}

// weighed is an entry of a block: its place in the index, and where it ends in the archive.
type weighed struct {
	index int
	ends  int64
}

func (w *weigher) show(e *tree.Entry, body io.Reader) error {
	if w == nil || w.look == nil {
		return nil
	}
	return w.look(e, body)
}

// add tells of an entry that was read to the end of its bytes, and of its place in the index.
func (w *weigher) add(e *tree.Entry, at int) {
	if w == nil {
		return
	}
	if at == len(w.byIndex) {
		w.byIndex, w.sizes = append(w.byIndex, 0), append(w.sizes, 0)
	} else { // nobody sees an earlier one of its path
		w.share()
		w.weights.Doubled = append(w.weights.Doubled, Doubled{e.Path, w.byIndex[at], w.sizes[at]})
		w.byIndex[at] = 0
	}
	w.sizes[at] = e.Size
	w.ends = [2]int64{(w.counted.n + blockSize - 1) &^ (blockSize - 1), w.plain.taken()}
	if w.plain.tar {
		w.ends[1] = w.ends[0]
	}
	w.block = append(w.block, weighed{at, w.ends[0]})
	if w.ends[0]-w.begins[0] >= weighBlock {
		w.share()
	}
}

// share divides what the open block takes among its entries, by their bytes in the archive.
func (w *weigher) share() {
	long, took, given := w.ends[0]-w.begins[0], w.ends[1]-w.begins[1], int64(0)
	for _, one := range w.block {
		upTo := int64(float64(took) * (float64(one.ends-w.begins[0]) / float64(long)))
		if one.ends == w.ends[0] {
			upTo = took
		}
		w.byIndex[one.index] += upTo - given
		given = upTo
	}
	w.block, w.begins = w.block[:0], w.ends
}

// sort puts an index and its weights into the order of the paths. The end of the archive goes to the last entry.
func (w *weigher) sort(out *Indexed) {
	if w == nil {
		slices.SortStableFunc(out.Entries, func(a, b tree.Entry) int { return strings.Compare(a.Path, b.Path) })
		return
	}
	w.ends[1] = w.plain.packed.n
	if n := len(w.block); n > 0 {
		w.share()
	} else if n := len(w.byIndex); n > 0 {
		w.byIndex[n-1] += w.ends[1] - w.begins[1]
	} else {
		w.weights.Rest = w.ends[1]
		return
	}
	order := make([]int, len(out.Entries))
	for i := range order {
		order[i] = i
	}
	slices.SortStableFunc(order, func(a, b int) int { return strings.Compare(out.Entries[a].Path, out.Entries[b].Path) })
	// Each goes to its place along the circle of those that it makes way for, so that the list is there once.
	w.weights.Packed = w.byIndex
	for start := range order {
		entry, packed := out.Entries[start], w.byIndex[start]
		at := start
		for order[at] != start {
			from := order[at]
			out.Entries[at], w.byIndex[at], order[at] = out.Entries[from], w.byIndex[from], at
			at = from
		}
		out.Entries[at], w.byIndex[at], order[at] = entry, packed, at
	}
}

// Encode writes weights as text: a line of numbers, and one for each entry that is not seen.
func (w *Weights) Encode() []byte {
	out := fmt.Appendf(nil, "%s %d\n", weightsHead, w.Rest)
	for i, packed := range w.Packed {
		if i > 0 {
			out = append(out, ' ')
		}
		out = strconv.AppendInt(out, packed, 10)
	}
	out = append(out, '\n')
	for _, d := range w.Doubled {
		out = fmt.Appendf(out, "%d %d %q\n", d.Packed, d.Size, d.Path)
	}
	return out
}

const weightsHead = "imbricat weights 1"

// DecodeWeights reads what Encode wrote, of an index with so many entries.
func DecodeWeights(text []byte, entries int) (*Weights, error) {
	head, rest, _ := strings.Cut(string(text), "\n")
	numbers, doubled, _ := strings.Cut(rest, "\n")
	w := &Weights{Packed: make([]int64, 0, entries)}
	_, err := fmt.Sscanf(head, weightsHead+" %d", &w.Rest)
	for word := range strings.FieldsSeq(numbers) {
		n, wrong := strconv.ParseInt(word, 10, 64)
		err = cmp.Or(err, wrong)
		w.Packed = append(w.Packed, n)
	}
	for line := range strings.Lines(doubled) {
		var d Doubled
		_, wrong := fmt.Sscanf(line, "%d %d %q", &d.Packed, &d.Size, &d.Path)
		err = cmp.Or(err, wrong)
		w.Doubled = append(w.Doubled, d)
	}
	if err != nil || len(w.Packed) != entries {
		return nil, fmt.Errorf("these are no weights of %d entries", entries)
	}
	return w, nil
}
