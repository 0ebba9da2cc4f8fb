package lists

import "sync"

// Numbering gives things their numbers, by name, for a judge and all that come of it
// by edits: what one edit calls by a number, no other does, so that what is known
// of one matrix can be shared by all of the family. What is gone keeps its number,
// and says nothing.
type Numbering struct {
	mu    sync.Mutex
	known [sorts]map[string]int
	names [sorts][]string
}

// The sorts of things that have such numbers.
const (
	PolicyNumber = iota
	RailNumber
	ShareNumber
	GroupNumber
	sorts
)

func NewNumbering() *Numbering {
	n := &Numbering{}
	for sort := range n.known {
		n.known[sort] = map[string]int{}
	}
	return n
}

// Number returns the number of a name, the next one if it has none.
func (n *Numbering) Number(sort int, name string) int {
	n.mu.Lock()
	defer n.mu.Unlock()
	i, ok := n.known[sort][name]
	if !ok {
		i = len(n.names[sort])
		n.known[sort][name] = i
		n.names[sort] = append(n.names[sort], name)
	}
	return i
}

func (n *Numbering) Name(sort, number int) string {
	n.mu.Lock()
	defer n.mu.Unlock()
	return n.names[sort][number]
}

// Put puts a thing at its number in a list that it makes long enough; what has no
// number of the list's is left as named says.
func Put[T any](list []T, number int, thing T, named func(number int) T) []T {
	for len(list) <= number {
		list = append(list, named(len(list)))
	}
	list[number] = thing
	return list
}
