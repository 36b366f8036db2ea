package order

// pairs finds, again and again, the pair of things whose joining gains most. Each thing knows its best partner among
// those before it, and what each pair gains is kept, so that a join asks once for each thing that is left.
type pairs struct {
	gain  func(i, j int) int64
	gains [][]int64 // of each thing with those before it; nil where there are too many things to keep them
	there []bool
	mates []mate
	left  int
}

type mate struct {
	at   int // -1: none
	gain int64
}

// mostKept bounds of how many things the gains of all pairs are kept: some 64 MB.
const mostKept = 4000

func newPairs(n int, gain func(i, j int) int64) *pairs {
	p := &pairs{gain: gain, there: make([]bool, n), mates: make([]mate, n), left: n}
	if n <= mostKept {
		p.gains = make([][]int64, n)
	}
	for i := range n {
		p.there[i] = true
		if p.gains != nil {
			p.gains[i] = make([]int64, i)
			p.ask(i)
		}
		p.find(i)
	}
	return p
}

// ask keeps what a thing gains with those before it.
func (p *pairs) ask(i int) {
	for j := range p.gains[i] {
		if p.there[j] {
			p.gains[i][j] = p.gain(i, j)
		}
	}
}

// of returns what a pair gains.
func (p *pairs) of(i, j int) int64 {
	if p.gains != nil {
		return p.gains[i][j]
	}
	return p.gain(i, j)
}

func (p *pairs) find(i int) {
	p.mates[i] = mate{at: -1}
	for j := range i {
		if p.there[j] {
			p.offer(i, j)
		}
	}
}

func (p *pairs) offer(i, j int) {
	if gain := p.of(i, j); p.mates[i].at < 0 || gain > p.mates[i].gain {
		p.mates[i] = mate{j, gain}
	}
}

// best returns the pair that gains most; the first of several.
func (p *pairs) best() (into, from int, gain int64) {
	top := -1
	for i, m := range p.mates {
		if p.there[i] && m.at >= 0 && (top < 0 || m.gain > p.mates[top].gain) {
			top = i
		}
	}
	return p.mates[top].at, top, p.mates[top].gain
}

// joined notes that a thing went into another one, which is another thing now.
func (p *pairs) joined(into, from int) {
	p.there[from] = false
	p.left--
	if p.gains != nil {
		p.ask(into)
	}
	p.find(into)
	for i := into + 1; i < len(p.there); i++ {
		if !p.there[i] {
			continue
		}
		if p.gains != nil {
			p.gains[i][into] = p.gain(i, into)
		}
		if p.mates[i].at == from || p.mates[i].at == into {
			p.find(i)
		} else {
			p.offer(i, into)
		}
	}
}
