package survey

import "sync"

// rolls are what blocks ask of all classes, in columns: every block goes through
// those of its domains, and classes themselves are large. They are made when they
// are first asked for.
type rolls struct {
	once sync.Once
	of   []roll      // by domain
	seen [][][]int32 // by two domains: the classes of the second that the first sees, by their places in it
}

// roll is the classes of one domain, by their places in it (ticket.at).
type roll struct {
	tickets []ticket
	members []bulk // how much of each class there is
	four    []bool
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

func (r *rolls) fill(p *partition) {
	domains := len(p.inside) + 1
	r.of, r.seen = make([]roll, domains), make([][][]int32, domains)
	for from := range r.seen {
		r.seen[from] = make([][]int32, domains)
	}
	for to := range r.of {
		classes := p.of(to)
		n := len(classes)
		x := roll{make([]ticket, n), make([]bulk, n), make([]bool, n)}
		for at, i := range classes {
			c := p.classes[i]
			x.tickets[at], x.members[at], x.four[at] = c.ticket, bulk{1, c.weight}, c.four
			if c.Internal() {
				r.seen[domains-1][to] = append(r.seen[domains-1][to], int32(at))
			}
			for from, sees := range c.seen {
				if sees == seesIt {
					r.seen[from][to] = append(r.seen[from][to], int32(at))
				}
			}
		}
		r.of[to] = x
	}
}
