package survey

import (
	"slices"

	"bivium/core/parallel"
)

// rolls are what blocks ask of all classes, in columns: every block goes through
// those of its domains, and classes themselves are large. They are made when they
// are first asked for.
type rolls struct {
	once parallel.Once
	kept []bool      // by domain: its roll is there already
	of   []roll      // by domain
	seen [][][]int32 // by two domains: the classes of the second that the first sees, by their places in it
}

// roll is the classes of one domain, by their places in it (ticket.at).
type roll struct {
	tickets []ticket
	members []bulk // how much of each class there is
	four    []bool
	selves  *selves
}

// bulk is how much there is of some endpoints: classes, and about how many
// addresses.
type bulk struct {
	members int64
	weight  float64
}

func (b *bulk) add(c bulk) {
	b.members += c.members
	b.weight += c.weight
}

// roll returns the roll of a domain.
func (p *partition) roll(domain int) *roll {
	p.rolls.once.Do(func() { p.rolls.fill(p) })
	return &p.rolls.of[domain]
}

// seenBy returns the classes of a domain that another sees, by their places in it:
// the internet sees all of a segment.
func (p *partition) seenBy(from, to int) []int32 {
	p.rolls.once.Do(func() { p.rolls.fill(p) })
	return p.rolls.seen[from][to]
}

// rollsAfter returns the rolls of a partition that comes of another, where the classes
// of some domains are no others.
func (p *partition) rollsAfter(others []bool) *rolls {
	p.rolls.once.Do(func() { p.rolls.fill(p) })
	next := &rolls{kept: make([]bool, len(others)), of: slices.Clone(p.rolls.of), seen: make([][][]int32, len(others))}
	for d, other := range others {
		next.kept[d] = !other
		next.seen[d] = slices.Clone(p.rolls.seen[d])
	}
	return next
}

func (r *rolls) fill(p *partition) {
	domains := len(p.inside) + 1
	if r.kept == nil {
		r.kept, r.of, r.seen = make([]bool, domains), make([]roll, domains), make([][][]int32, domains)
		for from := range r.seen {
			r.seen[from] = make([][]int32, domains)
		}
	}
	for to := range r.of {
		if !r.kept[to] {
			r.enter(p, to)
		}
	}
}

// enter makes the roll of a domain.
func (r *rolls) enter(p *partition, to int) {
	domains := len(p.inside) + 1
	classes := p.of(to)
	n := len(classes)
	x := roll{make([]ticket, n), make([]bulk, n), make([]bool, n), &selves{}}
	seen := make([][]int32, domains) // by the domain that sees
	for at, i := range classes {
		c := p.classes[i]
		x.tickets[at], x.members[at], x.four[at] = c.ticket, bulk{1, c.weight}, c.four
		if c.Internal() {
			seen[domains-1] = append(seen[domains-1], int32(at))
		}
		for from, sees := range c.seen {
			if sees == seesIt {
				seen[from] = append(seen[from], int32(at))
			}
		}
	}
	r.of[to] = x
	for from := range seen {
		r.seen[from][to] = seen[from]
	}
}
