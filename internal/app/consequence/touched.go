package consequence

import (
	"encoding/json"
	"slices"

	"bivium/core/document"
	"bivium/core/estate"
	"bivium/core/inventory"
	"bivium/internal/app/view"
	"bivium/internal/wording"
)

// touched is what an edit puts, renames and deletes, and what has to be looked at for that.
type touched struct {
	before, after *estate.Estate
	changes       []document.Change
	kinds         map[estate.Kind]bool
	places        bool // routes, or who reaches what by a share, may be others
}

// rulesOnly are the kinds whose things bear on no route and no share.
var rulesOnly = []estate.Kind{estate.KindPolicy, estate.KindRulebook, estate.KindPublication, estate.KindExpectation, estate.KindService, estate.KindMapping}

func touchedBy(before *estate.Estate, p *view.Plan) *touched {
	t := &touched{before: before, after: p.Next, changes: p.Changes(before), kinds: map[estate.Kind]bool{}}
	for i := range t.changes {
		if c := &t.changes[i]; !c.Moved() {
			t.kinds[document.KindOf(c.List)] = true
		}
	}
	for kind := range t.kinds {
		t.places = t.places || !slices.Contains(rulesOnly, kind)
	}
	return t
}

// only reports whether things of some kinds alone are touched.
func (t *touched) only(kinds ...estate.Kind) bool {
	for kind := range t.kinds {
		if !slices.Contains(kinds, kind) {
			return false
		}
	}
	return true
}

// check returns the faults that the estate may have by now for what was touched.
func (t *touched) check() []estate.Fault {
	switch {
	case t.only(append(rulesOnly, estate.KindGroup)...):
		return estate.CheckRules(t.after)
	case t.kinds[estate.KindWorkload], t.kinds[estate.KindAccount], t.otherSubnets():
		return estate.Check(t.after)
	case t.only(estate.KindNetwork, estate.KindAttachment, estate.KindPeering):
		return estate.CheckPlaces(t.after, t.segments())
	}
	return estate.CheckWiring(t.after) // a segment may have gone of which rules speak
}

// otherSubnets reports whether a network came, went, or has other subnets: its workloads may
// have no place in it.
func (t *touched) otherSubnets() bool {
	if !t.kinds[estate.KindNetwork] {
		return false
	}
	subnets := map[string][]estate.Subnet{}
	for i := range t.before.Networks {
		subnets[t.before.Networks[i].Name] = t.before.Networks[i].Subnets
	}
	for i := range t.after.Networks {
		n := &t.after.Networks[i]
		was, there := subnets[n.Name]
		if !there || !slices.EqualFunc(was, n.Subnets, func(a, b estate.Subnet) bool { return a.Name == b.Name && a.Prefix == b.Prefix }) {
			return true
		}
	}
	return len(t.before.Networks) != len(t.after.Networks)
}

// networks returns the names of the networks that are touched, or that connections which are
// touched connect.
func (t *touched) networks() map[string]bool {
	out := map[string]bool{}
	for i := range t.changes {
		c := &t.changes[i]
		if c.Moved() {
			continue
		}
		for _, body := range [][]byte{c.Before, c.After} {
			var of struct {
				Name, Network string
				Between       []string
			}
			if body == nil || json.Unmarshal(body, &of) != nil {
				continue
			}
			switch document.KindOf(c.List) {
			case estate.KindNetwork:
				out[of.Name] = true
			case estate.KindAttachment:
				out[of.Network] = true
			case estate.KindPeering:
				for _, name := range of.Between {
					out[name] = true
				}
			}
		}
	}
	return out
}

// segments returns the segments whose routes may be others: those in which the networks that
// are touched, or their peers, live before or after; nil for all.
func (t *touched) segments() map[string]bool {
	if !t.only(estate.KindNetwork, estate.KindAttachment, estate.KindPeering) {
		return nil // hubs, links, exits and shares are everybody's
	}
	networks := t.networks()
	for _, p := range t.before.Peerings {
		for k, name := range p.Between {
			if networks[name] {
				networks[p.Between[1-k]] = true
			}
		}
	}
	out := map[string]bool{}
	for _, e := range []*estate.Estate{t.before, t.after} {
		for i := range e.Networks {
			if n := &e.Networks[i]; networks[n.Name] {
				out[n.Segment] = true
				for k := range n.Subnets {
					out[n.SegmentOf(&n.Subnets[k])] = true
				}
			}
		}
		for i := range e.Attachments {
			a := &e.Attachments[i]
			if !networks[a.Network] {
				continue
			}
			for _, x := range a.Static {
				out[x.Segment] = true
			}
			for _, x := range a.Learned {
				out[x.Segment] = true
			}
		}
	}
	return out
}

// maxObjects is how many objects that an edit changes are told.
const maxObjects = 200

// objects tells which things come, change and go.
func (t *touched) objects() []view.Change {
	out := []view.Change{}
	for i := range t.changes {
		c := &t.changes[i]
		if c.Moved() {
			continue
		}
		x := view.Change{Change: inventory.Change{Kind: inventory.Kind(document.KindOf(c.List)), Name: c.Key, What: inventory.Changed}}
		switch {
		case c.Before == nil:
			x.What = inventory.New
		case c.After == nil:
			x.What = inventory.Gone
		case c.Was != "":
			x.How = wording.RenamedFrom(c.Was)
		}
		if len(out) < maxObjects {
			out = append(out, x)
		}
	}
	return out
}
