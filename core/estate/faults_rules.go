package estate

import "slices"

func (c *checker) side(of Ref, s Side, path string, i int) {
	for j, g := range s.Groups {
		c.need(of, KindGroup, g, path+"[%d]", i, j)
	}
}

func (c *checker) scope(of Ref, s Scope, path string, i int) {
	for j, name := range s.Names {
		c.need(of, KindSegment, name, path+"[%d]", i, j)
	}
}

func (c *checker) end(of Ref, e End, path string, i int) {
	if !e.Internet {
		c.party(of, e.Party, path, i)
	}
}

func (c *checker) services(of Ref, refs []ServiceRef, path string, places ...any) {
	known := c.names[KindService]
	for k, s := range refs {
		if _, ok := known[s.Name]; ok {
			continue // as nearly always
		}
		c.need(of, KindService, s.Name, path+".services[%d]", append(slices.Clone(places), k)...)
	}
}

// ruleList checks the rules of what serves some segments.
func (c *checker) ruleList(of Ref, rules []Rule, serves Scope, path string, i int) {
	for j, r := range rules {
		c.inspectsElsewhere(of, &r, serves, path+".rules[%d].pool", i, j)
		c.services(of, r.Services, path+".rules[%d]", i, j)
		c.need(of, KindPool, r.Pool, path+".rules[%d].pool", i, j)
		if r.Action == Inspect && r.Pool == "" {
			c.add(NoPool, Plain, []Ref{of}, args(j+1), path+".rules[%d]", i, j)
		}
	}
}

func (c *checker) rules() {
	for i, m := range c.e.Mappings {
		for j, r := range m.Rules {
			c.need(Ref{KindMapping, m.Name}, KindAccount, r.Account, "mappings[%d].rules[%d].account", i, j)
		}
	}
	for i := range c.e.Policies {
		p := &c.e.Policies[i]
		of := Ref{KindPolicy, p.Name}
		c.scope(of, p.Segments, "policies[%d].segments", i)
		c.scope(of, p.FromSegments, "policies[%d].fromSegments", i)
		c.scope(of, p.ToSegments, "policies[%d].toSegments", i)
		c.side(of, p.From, "policies[%d].from", i)
		c.side(of, p.To, "policies[%d].to", i)
		c.ruleList(of, p.Rules, p.serves(), "policies[%d]", i)
		for j, r := range p.Rules {
			if p.Guardrail() && r.Action == Allow {
				c.add(GuardrailAllows, Plain, []Ref{of}, args(j+1), "policies[%d].rules[%d].action", i, j)
			}
		}
	}
	for i, b := range c.e.Rulebooks {
		of := Ref{KindRulebook, b.Name}
		for j, r := range b.Rules {
			for k, g := range r.From.Groups {
				c.need(of, KindGroup, g, "rulebooks[%d].rules[%d].from[%d]", i, j, k)
			}
			for k, g := range r.To.Groups {
				c.need(of, KindGroup, g, "rulebooks[%d].rules[%d].to[%d]", i, j, k)
			}
			c.services(of, r.Services, "rulebooks[%d].rules[%d]", i, j)
		}
	}
	for i, s := range c.e.Shares {
		of := Ref{KindShare, s.Name}
		c.party(of, s.Owner, "shares[%d].owner", i)
		c.party(of, s.Guest, "shares[%d].guest", i)
		c.ruleList(of, s.Rules, Scope{Names: []string{s.Owner.Segment, s.Guest.Segment}}, "shares[%d]", i)
		if s.Owner.Segment == s.Guest.Segment {
			c.add(ForbiddenShare, WithItself, []Ref{of}, args(s.Owner.Segment), "shares[%d].guest.segment", i)
		}
	}
	c.shows()
	for i, p := range c.e.Publications {
		of := Ref{KindPublication, p.Name}
		c.services(of, p.Services, "publications[%d]", i)
		c.party(of, p.To, "publications[%d].to", i)
		if c.need(of, KindExit, p.Exit, "publications[%d].exit", i) {
			exit := c.e.Exits[c.names[KindExit][p.Exit]]
			if !slices.Contains(exit.Segments, p.To.Segment) {
				c.add(UnservedPublication, Plain, []Ref{of, {KindExit, exit.Name}}, args(p.To.Segment), "publications[%d].exit", i)
			}
		}
	}
	for i, x := range c.e.Expectations {
		of := Ref{KindExpectation, x.Name}
		c.end(of, x.From, "expectations[%d].from", i)
		c.end(of, x.To, "expectations[%d].to", i)
		c.services(of, x.Services, "expectations[%d]", i)
		c.need(of, KindPool, x.Pool, "expectations[%d].pool", i)
	}
}

func (c *checker) party(of Ref, p Party, path string, i int) {
	c.need(of, KindSegment, p.Segment, path+".segment", i)
	c.side(of, p.Groups, path+".groups", i)
}

// inspectsElsewhere reports F17 for a rule that serves some segments.
func (c *checker) inspectsElsewhere(of Ref, r *Rule, serves Scope, path string, places ...any) {
	at, ok := c.names[KindPool][r.Pool]
	if r.Action != Inspect || !ok {
		return
	}
	pool := &c.e.Pools[at]
	if len(pool.Segments) == 0 {
		return
	}
	names := serves.Names
	if serves.All {
		names = nil
		for i := range c.e.Segments {
			names = append(names, c.e.Segments[i].Name)
		}
	}
	for _, name := range names {
		if !slices.Contains(pool.Segments, name) {
			c.add(PoolNotForSegment, Plain, []Ref{of, {KindPool, pool.Name}, {KindSegment, name}}, nil, path, places...)
			return
		}
	}
}
