package survey

import (
	"maps"
	"slices"

	"bivium/core/parallel"
)

// rolls are what blocks ask of all classes, in columns: every block goes through
// those of its domains, and classes themselves are large. They are made when they
// are first asked for.
type rolls struct {
	once parallel.Once
	kept []bool // by domain: its roll is there already
	of   []roll // by domain
}

// roll is the classes of one domain, by their places in it (ticket.at).
type roll struct {
	tickets []ticket
	members []bulk // how much of each class there is
	four    []bool
	derived *derived
	seenBy  tableRow[[]int32] // by the domains that find some: which, by their places in it
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
func (p *partition) seenBy(from, to int) []int32 { return p.roll(to).seenBy.at(from) }

// rollsAfter returns the rolls of a partition that comes of another, where the classes
// of some domains are no others.
func (p *partition) rollsAfter(others []bool) *rolls {
	p.rolls.once.Do(func() { p.rolls.fill(p) })
	next := &rolls{kept: make([]bool, len(others)), of: slices.Clone(p.rolls.of)}
	for d, other := range others {
		next.kept[d] = !other
	}
	return next
}

func (r *rolls) fill(p *partition) {
	if r.kept == nil {
		r.kept, r.of = make([]bool, len(p.inside)+1), make([]roll, len(p.inside)+1)
	}
	for to := range r.of {
		if !r.kept[to] {
			r.of[to] = p.enrol(to)
		}
	}
}

// enrol makes the roll of a domain.
func (p *partition) enrol(domain int) roll {
	classes := p.of(domain)
	n := len(classes)
	x := roll{tickets: make([]ticket, n), members: make([]bulk, n), four: make([]bool, n), derived: &derived{}}
	seen := map[int32][]int32{} // by the domain that sees
	seers := map[*see][]int32{} // classes share what says who sees them
	for at, i := range classes {
		c := p.classes[i]
		x.tickets[at], x.members[at], x.four[at] = c.ticket, bulk{1, c.weight}, c.four
		if len(c.seen) > 0 {
			by, known := seers[&c.seen[0]]
			if !known {
				by = seersOf(c.seen)
				seers[&c.seen[0]] = by
			}
			for _, from := range by {
				seen[from] = append(seen[from], int32(at))
			}
		}
		if c.Internal() {
			seen[int32(len(p.inside))] = append(seen[int32(len(p.inside))], int32(at))
		}
	}
	for _, from := range slices.Sorted(maps.Keys(seen)) {
		x.seenBy.add(int(from), seen[from])
	}
	return x
}

// seersOf returns the segments that see a class.
func seersOf(seen []see) []int32 {
	var out []int32
	for from, sees := range seen {
		if sees == seesIt {
			out = append(out, int32(from))
		}
	}
	return out
}

// derived is what a package above has worked out of the classes of one domain. It stays
// for as long as they do, in every partition that has them.
type derived struct {
	once  parallel.Once
	value any
}

// get returns it, from f when it is first asked for.
func (d *derived) get(f func() any) any {
	d.once.Do(func() { d.value = f() })
	return d.value
}
