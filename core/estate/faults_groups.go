package estate

import "slices"

func (c *checker) selections() {
	for i := range c.e.Groups {
		g := &c.e.Groups[i]
		of := Ref{KindGroup, g.Name}
		c.need(of, KindGroup, g.Within, "groups[%d].within", i)
		for j, n := range g.Networks {
			c.need(of, KindNetwork, n, "groups[%d].networks[%d]", i, j)
		}
		for j, s := range g.Subnets {
			if c.need(of, KindNetwork, s.Network, "groups[%d].subnets[%d]", i, j) && !c.subnets[s] {
				c.add(UnknownName, OfNetwork, []Ref{of, {KindSubnet, s.String()}}, args(s.Network), "groups[%d].subnets[%d]", i, j)
			}
		}
		for j, x := range g.Exits {
			c.need(of, KindExit, x, "groups[%d].exits[%d]", i, j)
		}
		if g.Empty() {
			c.add(EmptyGroup, Plain, []Ref{of}, nil, "groups[%d]", i)
		}
	}
	c.ancestors()
}

// ancestors reports F4 once for each cycle of parents.
func (c *checker) ancestors() {
	const unseen, walking, done = 0, 1, 2
	state := make([]int, len(c.e.Groups))
	for i := range c.e.Groups {
		var walk []int
		at, more := i, true
		for more && state[at] == unseen {
			state[at] = walking
			walk = append(walk, at)
			var parent int
			if parent, more = c.names[KindGroup][c.e.Groups[at].Within]; more {
				at = parent
			}
		}
		if more && state[at] == walking {
			c.cycle(walk[slices.Index(walk, at):])
		}
		for _, g := range walk {
			state[g] = done
		}
	}
}

func (c *checker) cycle(groups []int) {
	var refs []Ref
	for _, g := range groups {
		refs = append(refs, Ref{KindGroup, c.e.Groups[g].Name})
	}
	c.add(OwnAncestor, Plain, refs, nil, "groups[%d].within", groups[0])
}
