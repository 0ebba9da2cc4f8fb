package survey

import (
	"cmp"
	"fmt"
	"slices"

	"go4.org/netipx"
)

// Block is all flows from some endpoints to others.
type Block struct{ From, To Selection }

// Selection is some endpoints of one segment, or of the internet, in as few
// words as describe them: all of it, or some groups and networks and, for what
// none of them covers, prefixes.
type Selection struct {
	Node     Node // the segment, or the internet
	All      bool
	Groups   []string
	Networks []string
	Ranges   []Range
}

// MaxPrefixes is how many prefixes a selection writes before it counts the rest.
const MaxPrefixes = 6

// Words returns the parts of a selection, each a name or a prefix.
func (s Selection) Words() []string {
	name := s.Node.Segment
	if s.Node.Kind == NodeInternet {
		name = "internet"
	}
	if s.All {
		return []string{"all of " + name}
	}
	var out []string
	for _, g := range s.Groups {
		out = append(out, name+":"+g)
	}
	for _, n := range s.Networks {
		out = append(out, name+":network "+n)
	}
	var b netipx.IPSetBuilder
	for _, r := range s.Ranges {
		b.AddRange(netipx.IPRangeFrom(r.From, r.To))
	}
	set, err := b.IPSet()
	if err != nil { // ranges are made from addresses of one family, in order
		panic("survey: " + err.Error())
	}
	prefixes := set.Prefixes()
	for _, p := range prefixes[:min(len(prefixes), MaxPrefixes)] {
		out = append(out, name+":"+p.String())
	}
	if more := len(prefixes) - MaxPrefixes; more > 0 {
		out = append(out, fmt.Sprintf("%d more prefixes of %s", more, name))
	}
	return out
}

// blocks turns pairs of joint classes into blocks: destinations with the same
// sources stand together. Each pair is in one block.
func (c *comparer) blocks(pairs [][2]int) []Block {
	sources := map[int][]int{}
	var order []int
	for _, p := range pairs {
		if _, ok := sources[p[1]]; !ok {
			order = append(order, p[1])
		}
		if list := sources[p[1]]; len(list) == 0 || list[len(list)-1] != p[0] {
			sources[p[1]] = append(list, p[0])
		}
	}
	type block struct{ from, to []int }
	var blocks []block
	at := map[string]int{}
	for _, to := range order {
		from := slices.Compact(slices.Sorted(slices.Values(sources[to])))
		key := fmt.Sprint(from)
		i, ok := at[key]
		if !ok {
			i = len(blocks)
			at[key] = i
			blocks = append(blocks, block{from: from})
		}
		blocks[i].to = append(blocks[i].to, to)
	}
	out := make([]Block, len(blocks))
	for i, b := range blocks {
		from, to := &c.joints[b.from[0]], &c.joints[b.to[0]]
		out[i] = Block{
			c.selection(b.from, func(j *joint) bool { return c.without(j, to) }),
			c.selection(b.to, func(j *joint) bool { return c.without(from, j) }),
		}
	}
	return out
}

// unit is a group or a network that may describe part of a selection.
type unit struct {
	name    string
	network bool
	joints  []int
}

// selection describes joint classes of one segment: all of it, else groups and
// networks that lie wholly inside, the largest first, and ranges for the rest.
// Endpoints that idle says have no flows with the other side do not count.
func (c *comparer) selection(joints []int, idle func(*joint) bool) Selection {
	in := map[int]bool{}
	for _, j := range joints {
		in[j] = true
	}
	s := Selection{Node: c.joints[joints[0]].segment, All: true}
	units := map[string]*unit{}
	add := func(name string, network bool, j int) {
		key := fmt.Sprint(network, name)
		if units[key] == nil {
			units[key] = &unit{name: name, network: network}
		}
		units[key].joints = append(units[key].joints, j)
	}
	for j := range c.joints {
		if c.joints[j].segment != s.Node || !in[j] && idle(&c.joints[j]) {
			continue
		}
		s.All = s.All && in[j]
		for _, n := range c.joints[j].nodes {
			if n.Kind == NodeGroup {
				add(n.Group, false, j)
			}
		}
		if network := c.networkOf(&c.joints[j]); network != "" {
			add(network, true, j)
		}
	}
	if s.All {
		return s
	}
	for _, u := range inside(units, in) {
		fresh := false
		for _, j := range u.joints {
			fresh = fresh || in[j]
			delete(in, j)
		}
		switch {
		case fresh && u.network:
			s.Networks = append(s.Networks, u.name)
		case fresh:
			s.Groups = append(s.Groups, u.name)
		}
	}
	for _, j := range joints {
		if in[j] {
			s.Ranges = append(s.Ranges, c.joints[j].ranges...)
		}
	}
	return s
}

// inside returns the units that lie wholly in a set of joint classes, the
// largest first.
func inside(units map[string]*unit, in map[int]bool) []*unit {
	var out []*unit
	for _, u := range units {
		if !slices.ContainsFunc(u.joints, func(j int) bool { return !in[j] }) {
			out = append(out, u)
		}
	}
	slices.SortFunc(out, func(a, b *unit) int {
		if d := cmp.Compare(len(b.joints), len(a.joints)); d != 0 {
			return d
		}
		if a.network != b.network {
			return oneIf(a.network) - oneIf(b.network)
		}
		return cmp.Compare(a.name, b.name)
	})
	return out
}

// networkOf returns the home network of a joint class, or "".
func (c *comparer) networkOf(j *joint) string {
	s, class := c.new, j.new
	if class < 0 {
		s, class = c.old, j.old
	}
	end := &s.classes[class].End
	if !end.Internal() {
		return ""
	}
	return s.judge.Net().Networks[end.Home.Network].Name
}
