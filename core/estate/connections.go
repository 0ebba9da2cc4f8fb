package estate

import "strconv"

// MadeUpName returns the name of a connection of two things that was given none:
// theirs with a dash between, shortened where that would be too long for a name.
//
//	MadeUpName("fjord", "delta") // fjord-delta
func MadeUpName(a, b string) string {
	const half = (MaxName - 1) / 2
	if len(a)+1+len(b) > MaxName {
		a, b = a[:min(len(a), max(half, MaxName-1-len(b)))], b[:min(len(b), max(half, MaxName-1-len(a)))]
	}
	return a + "-" + b
}

// NameConnections gives names to the links, attachments and peerings of e that have none:
// made up of what they connect, with a number where another one has that name already.
// Lists in which all have names stay as they are; others are copied first. Cost: O(n) in
// the connections.
func NameConnections(e *Estate) {
	e.Links = named(e.Links, func(l *Link) (*string, string) { return &l.Name, MadeUpName(l.Between[0], l.Between[1]) })
	e.Attachments = named(e.Attachments, func(a *Attachment) (*string, string) { return &a.Name, MadeUpName(a.Network, a.Hub) })
	e.Peerings = named(e.Peerings, func(p *Peering) (*string, string) { return &p.Name, MadeUpName(p.Between[0], p.Between[1]) })
}

// named returns a list in which everything has a name. naming returns where the name of a
// thing is kept, and what it is called if it has none.
func named[T any](list []T, naming func(*T) (*string, string)) []T {
	missing := 0
	for i := range list {
		if name, _ := naming(&list[i]); *name == "" {
			missing++
		}
	}
	if missing == 0 {
		return list
	}
	out := append([]T(nil), list...)
	taken := make(map[string]bool, len(out))
	for i := range out {
		name, _ := naming(&out[i])
		taken[*name] = true
	}
	for i := range out {
		name, madeUp := naming(&out[i])
		if *name != "" {
			continue
		}
		*name = FreeName(madeUp, func(s string) bool { return taken[s] })
		taken[*name] = true
	}
	return out
}

// FreeName returns a name like the given one that is not taken: with -2, -3 … at its end
// where it has to be another.
func FreeName(like string, taken func(string) bool) string {
	name := like
	for n := 2; taken(name); n++ {
		end := "-" + strconv.Itoa(n)
		name = like[:min(len(like), MaxName-len(end))] + end
	}
	return name
}
