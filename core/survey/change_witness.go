package survey

import (
	"bivium/core/verdict"
)

// Witness returns a flow of the change, between workloads if it can. Cost: the first time,
// that of looking for it among the bundles that the change is told by.
func (c *Change) Witness() verdict.Flow {
	c.gathered.witnessed.Do(c.gathered.exemplify)
	return c.gathered.witness
}

// exemplify finds the witness.
func (c *change) exemplify() {
	protocol, sport, dport, _ := c.Services.Witness()
	c.witness = verdict.Flow{Segment: c.From.Segment, Publication: c.publication, Service: verdict.Service{Protocol: protocol, SourcePort: sport, Port: dport}}
	if c.From.Kind == NodeInternet {
		c.witness.Segment = verdict.Internet
	}
	tries := 0
	for r := range c.reaches() { // first without making the sets
		for _, src := range r.srcs {
			for _, dst := range r.dsts {
				c.showOf(src, dst)
				if tries++; c.told == best || c.told > 0 && tries > enough {
					return
				}
			}
		}
	}
	if c.told > 0 {
		return
	}
	c.once.Do(c.patch)
	for i := range c.patches {
		for k := range c.patches[i].to.EachSet() {
			for n := range c.patches[i].from.EachSet() {
				if c.show(int32(n), int32(k)); c.told == best {
					return
				}
			}
			if c.told > 1 && i > 64 {
				return
			}
		}
	}
}

// showOf keeps a flow between two bundles, if it is a better witness and they say
// what is so of it.
func (c *change) showOf(src, dst *bundle) {
	for _, i := range src.shows {
		for _, k := range dst.shows {
			if c.amends == nil || !c.comparer.neighbours(c.at[0], i, k) {
				c.show(i, k)
			}
		}
	}
}

// best is how good a witness two workloads make.
const best = 3

// enough is among how many pairs of bundles a better witness is looked for than the one
// that there is: where nobody is a workload, there is none.
const enough = 4096

// show keeps a flow between two joints, if it is a better witness than what is known.
func (c *change) show(i, k int32) {
	x, y := &c.comparer.land(c.at[0]).joints[i], &c.comparer.land(c.at[1]).joints[k]
	told := 1 + oneIf(x.workload) + oneIf(y.workload)
	if told <= c.told || x.four != y.four {
		return
	}
	src, dst, ok := x.apart(y)
	if !ok && (c.at[0] == c.at[1] || c.From.Kind == NodeInternet || c.To.Kind == NodeInternet) {
		return // an address and itself
	}
	c.told, c.witness.Source, c.witness.Destination = told, src, c.comparer.asSeen(y, dst, c.From, c.After == nil)
}
