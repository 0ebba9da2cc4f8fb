package classes

import (
	"maps"
	"slices"

	"bivium/core/parallel"
)

// ColumnStore are what blocks ask of all classes, in columns: every block goes through
// those of its domains, and classes themselves are large. They are made when they
// are first asked for.
type ColumnStore struct {
	once parallel.Once
	kept []bool    // by domain: its columns is there already
	of   []Columns // by domain
}

// Columns is the classes of one domain, by their places in it (header.at).
type Columns struct {
	Headers []Header
	Members []Amount // how much of each class there is
	Four    []bool
	Derived *derived
	SeenBy  tableRow[[]int32] // by the domains that find some: which, by their places in it
}

// Amount is how much there is of some endpoints: classes, and about how many
// addresses.
type Amount struct {
	Members int64
	Weight  float64
}

func (b *Amount) Add(c Amount) {
	b.Members += c.Members
	b.Weight += c.Weight
}

// Columns returns the columns of a domain.
func (p *Partition) Columns(domain int) *Columns {
	p.Stores.once.Do(func() { p.Stores.fill(p) })
	return &p.Stores.of[domain]
}

// SeenBy returns the classes of a domain that another sees, by their places in it:
// the internet sees all of a segment.
func (p *Partition) SeenBy(from, to int) []int32 { return p.Columns(to).SeenBy.at(from) }

// rollsAfter returns the columns of a partition that comes of another, where the classes
// of some domains are no others.
func (p *Partition) rollsAfter(others []bool) *ColumnStore {
	p.Stores.once.Do(func() { p.Stores.fill(p) })
	next := &ColumnStore{kept: make([]bool, len(others)), of: slices.Clone(p.Stores.of)}
	for d, other := range others {
		next.kept[d] = !other
	}
	return next
}

func (r *ColumnStore) fill(p *Partition) {
	if r.kept == nil {
		r.kept, r.of = make([]bool, len(p.Inside)+1), make([]Columns, len(p.Inside)+1)
	}
	for to := range r.of {
		if !r.kept[to] {
			r.of[to] = p.enrol(to)
		}
	}
}

// enrol makes the columns of a domain.
func (p *Partition) enrol(domain int) Columns {
	classes := p.ClassesIn(domain)
	n := len(classes)
	x := Columns{Headers: make([]Header, n), Members: make([]Amount, n), Four: make([]bool, n), Derived: &derived{}}
	seen := map[int32][]int32{}        // by the domain that sees
	seers := map[*Visibility][]int32{} // classes share what says who sees them
	for at, i := range classes {
		c := p.Classes[i]
		x.Headers[at], x.Members[at], x.Four[at] = c.Header, Amount{1, c.Weight}, c.Four
		if len(c.Seen) > 0 {
			by, known := seers[&c.Seen[0]]
			if !known {
				by = seersOf(c.Seen)
				seers[&c.Seen[0]] = by
			}
			for _, from := range by {
				seen[from] = append(seen[from], int32(at))
			}
		}
		if c.Internal() {
			seen[int32(len(p.Inside))] = append(seen[int32(len(p.Inside))], int32(at))
		}
	}
	for _, from := range slices.Sorted(maps.Keys(seen)) {
		x.SeenBy.add(int(from), seen[from])
	}
	return x
}

// seersOf returns the segments that see a class.
func seersOf(seen []Visibility) []int32 {
	var out []int32
	for from, sees := range seen {
		if sees == SeesIt {
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

// Get returns it, from f when it is first asked for.
func (d *derived) Get(f func() any) any {
	d.once.Do(func() { d.value = f() })
	return d.value
}
