package order

// pairs finds, again and again, the pair of things whose joining gains most. Each thing knows its best partner among
// those before it, so that a join costs one look at each thing in most cases.
type pairs struct {
	gain  func(i, j int) int64
	there []bool
	mates []mate
	left  int
}

type mate struct {
	at   int // -1: none
	gain int64
}

func newPairs(n int, gain func(i, j int) int64) *pairs {
	p := &pairs{gain: gain, there: make([]bool, n), mates: make([]mate, n), left: n}
	for i := range n {
		p.there[i] = true
		p.find(i)
	}
	return p
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
	if gain := p.gain(i, j); p.mates[i].at < 0 || gain > p.mates[i].gain {
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

// joined notes that a thing went into another one.
func (p *pairs) joined(into, from int) {
	p.there[from] = false
	p.left--
	p.find(into)
	for i := into + 1; i < len(p.there); i++ {
		switch {
		case !p.there[i]:
		case p.mates[i].at == from || p.mates[i].at == into:
			p.find(i)
		default:
			p.offer(i, into)
		}
	}
}
