package proof

import (
	"fmt"
	"net/netip"
	"slices"

	"github.com/bits-and-blooms/bitset"

	"bivium/core/difference"
	"bivium/core/estate"
	"bivium/core/intervals"
	"bivium/core/matrix"
	"bivium/core/native/config"
	"bivium/core/native/reader"
	"bivium/core/verdict"
)

// proveWiring holds routes, peerings, attachments, exits, imports and publications to the
// estate's. Where routes differ, the flows are those that differ between the estate and one
// that is wired so.
func (p *prover) proveWiring() {
	p.proveImports()
	p.provePublications()
	if slices.Equal(wires(p.s.Judge.Estate), wires(p.r.Estate)) {
		return
	}
	other := *p.s.Judge.Estate
	found := p.r.Estate
	other.Networks, other.Attachments, other.Peerings, other.Exits, other.Links = found.Networks, found.Attachments, found.Peerings, found.Exits, found.Links
	d := difference.Compare(p.s, matrix.New(verdict.New(&other)))
	for i := range d.Changes {
		c := &d.Changes[i]
		f := c.Witness()
		meant, actual := Expected(p.s.Judge, &f), p.r.Carry(&f)
		if meant.Same(&actual) {
			continue // only the way back differs, which no first packet needs
		}
		for _, b := range d.Blocks(c) {
			p.routed = append(p.routed, Difference{
				From: nameOf(c.From), To: nameOf(c.To), Sources: b.From.Words(), Destinations: b.To.Words(), Services: c.Services, Witness: f,
				Meant: meant, Found: actual, Change: changeOf(&meant, &actual),
			})
		}
	}
}

func nameOf(n matrix.Node) string {
	if n.Segment == "" {
		return verdict.Internet
	}
	return n.Segment
}

// wires returns what an estate says of routes and connections, in one order.
func wires(e *estate.Estate) []string {
	var out []string
	for i := range e.Networks {
		for _, r := range e.Networks[i].Routes {
			out = append(out, fmt.Sprint("route ", e.Networks[i].Name, r.To, r.Via))
		}
	}
	for _, p := range e.Peerings {
		out = append(out, fmt.Sprint("peering ", min(p.Between[0], p.Between[1]), " ", max(p.Between[0], p.Between[1]), p.OffersHub))
	}
	for _, l := range e.Links {
		out = append(out, fmt.Sprint("link ", min(l.Between[0], l.Between[1]), " ", max(l.Between[0], l.Between[1]), l.Cost, l.State, l.Segments))
	}
	for _, x := range e.Exits {
		out = append(out, fmt.Sprint("exit ", x.Name, x.Hub, x.Segments, x.State))
	}
	for i := range e.Attachments {
		a := &e.Attachments[i]
		out = append(out, fmt.Sprint("attachment ", a.Name, a.Network, a.Hub, a.Cost, a.State, a.Translate, a.Accepts == nil, a.Accepts, a.Announces == nil, a.Announces))
		var borne []string
		for _, s := range a.Static {
			borne = append(borne, fmt.Sprint("borne ", a.Name, s.Segment, s.Prefix))
		}
		for _, l := range a.Learned {
			if l.Claims() {
				borne = append(borne, fmt.Sprint("borne ", a.Name, l.Segment, l.Prefix, l.Status == "withdrawn"))
			}
		}
		out = append(out, borne...)
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// proveImports looks at flows to addresses of other segments that a segment finds and should
// not, or does not find and should.
func (p *prover) proveImports() {
	for s := range p.r.Net.Segments {
		if p.importsStand(s) {
			continue
		}
		list, out := p.r.List(s), p.seenBy(s)
		var wanted []intervals.Range
		for i := range out {
			if out[i].class.End.Segment != s {
				wanted = append(wanted, out[i].seen)
			}
		}
		slices.SortFunc(wanted, func(a, b intervals.Range) int { return a.From.Compare(b.From) })
		if list == nil {
			list = &config.Segment{}
		}
		for i := range out {
			x := &out[i]
			if x.class.End.Segment == s {
				continue
			}
			seen, of, own, ok := p.r.Import(s, x.seen.From)
			if ok && of == x.class.End.Segment && reader.Rebase(x.seen.From, seen, own) == x.own.From {
				continue
			}
			for k := range p.own[s] {
				p.look(&p.own[s][k], x, p.all)
			}
		}
		// What is found and should not be: endpoints of other segments that this one does not see.
		for _, i := range list.Imports {
			of := p.s.Net.Segment(i.Of)
			if of < 0 {
				continue
			}
			for _, some := range p.own[of].spans([]netip.Prefix{i.Own}) {
				for k := some.first; k < some.last; k++ {
					x := &p.own[of][k]
					seen := reader.Rebase(x.own.From, i.Own, i.Seen)
					if intervals.Ranges(wanted).Meets(intervals.Range{From: seen, To: seen}) {
						continue
					}
					for m := range p.own[s] {
						p.lookSeen(&p.own[s][m], x, seen)
					}
				}
			}
		}
	}
}

// provePublications looks at what comes in by publications that are not as the estate says.
func (p *prover) provePublications() {
	e := p.s.Judge.Estate
	meant := map[string]string{}
	for i := range e.Publications {
		x := &e.Publications[i]
		segment := p.s.Net.Segment(x.To.Segment)
		if !x.Enabled || segment < 0 {
			continue
		}
		var to []intervals.Range
		for _, c := range p.s.Inside[segment] {
			if c := p.s.Classes[c]; p.s.Judge.HoldsSide(x.To.Groups, &c.End) {
				to = append(to, c.Ranges...)
			}
		}
		services, _ := p.s.Atoms.Covered(p.termsOf(x.Services))
		meant[x.Name] = fmt.Sprint(x.Exit, x.To.Segment, prefixes(to), services)
	}
	found := map[string]string{}
	for i := range p.r.Publications {
		x := &p.r.Publications[i]
		found[x.Name] = fmt.Sprint(x.Exit, x.Segment, prefixes(joined(x.To)), p.atoms(x.Services))
	}
	for s := range p.own {
		if len(p.own[s]) == 0 || !slices.ContainsFunc(p.publications(&p.own[s][0]), func(name string) bool { return meant[name] != found[name] }) {
			continue
		}
		for k := range p.own[s] {
			for i := range p.outside {
				p.look(&p.outside[i], &p.own[s][k], p.all)
			}
		}
	}
}

func (p *prover) termsOf(refs []estate.ServiceRef) []estate.Term {
	var out []estate.Term
	for _, r := range refs {
		if r.Name == "" {
			out = append(out, r.Term)
			continue
		}
		for i := range p.s.Judge.Estate.Services {
			if x := &p.s.Judge.Estate.Services[i]; x.Name == r.Name {
				out = append(out, x.Terms...)
			}
		}
	}
	return out
}

func (p *prover) every() *bitset.BitSet { return bitset.New(uint(p.s.Atoms.Len())).Complement() }
