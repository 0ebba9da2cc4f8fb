package proposal

import (
	"encoding/json"
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strings"

	"go4.org/netipx"

	"bivium/core/classes"
	"bivium/core/document"
	"bivium/core/edit"
	"bivium/core/estate"
	"bivium/core/intervals"
	"bivium/core/matrix"
	"bivium/core/paths"
	"bivium/core/query"
)

// Namer finds, or makes, groups that hold given addresses of a segment. It gathers the operations
// that make them.
type Namer struct {
	Edit   *edit.Edit
	s      *matrix.Matrix
	e      *estate.Estate
	taken  map[string]bool
	groups map[string]string // by segment and addresses
	places map[string]*place
}

// place is what a segment holds.
type place struct {
	groups    map[string]string // by addresses: a group that holds exactly those
	networks  []part
	subnets   []part
	workloads []machine
	outside   [2]string // the addresses of the internet that it sees, of IPv4 and of IPv6
}

type part struct {
	name string
	of   *netipx.IPSet
}

type machine struct {
	labels    map[string]string
	addresses *netipx.IPSet
}

// NewNamer returns one for the estate of a matrix.
func NewNamer(s *matrix.Matrix) *Namer {
	return &Namer{Edit: &edit.Edit{}, s: s, e: s.Judge.Estate, taken: map[string]bool{}, groups: map[string]string{}, places: map[string]*place{}}
}

// Group returns the name of a group whose members in a segment are the endpoints at some
// addresses: one that there is, or one that the edit makes. It speaks of whole networks and
// subnets, then of labels that no other workload of the segment has, and else of prefixes.
func (n *Namer) Group(segment string, addresses *netipx.IPSet) (string, error) {
	p := n.place(segment)
	key := keyOf(addresses)
	if name := p.groups[key]; name != "" {
		return name, nil
	}
	if name := n.groups[segment+" "+key]; name != "" {
		return name, nil
	}
	object, name := p.describe(addresses)
	name = n.free(estate.KindGroup, name)
	object["name"] = name
	n.groups[segment+" "+key] = name
	return name, n.put(estate.KindGroup, object)
}

// Describe returns addresses of a segment in a few words: as Group would name them, with what they
// consist of.
func (n *Namer) Describe(segment string, addresses *netipx.IPSet) (name string, parts []string) {
	p := n.place(segment)
	if name := p.groups[keyOf(addresses)]; name != "" {
		return name, []string{}
	}
	object, name := p.describe(addresses)
	for _, key := range []string{"networks", "subnets", "match", "prefixes"} {
		switch is := object[key].(type) {
		case string:
			parts = append(parts, is)
		case []string:
			parts = append(parts, is...)
		}
	}
	return name, parts
}

func keyOf(set *netipx.IPSet) string { return fmt.Sprint(set.Ranges()) }

// describe returns the fields of a group of some addresses, and a name for it.
func (p *place) describe(addresses *netipx.IPSet) (map[string]any, string) {
	object := map[string]any{}
	rest := addresses
	name := ""
	put := func(key string, of []part) {
		var names []string
		for _, x := range of {
			if holds(rest, x.of) {
				names = append(names, x.name)
				rest = without(rest, x.of)
			}
		}
		if len(names) == 0 {
			return
		}
		object[key] = names
		if name == "" {
			name = names[0]
		}
	}
	put("networks", p.networks)
	put("subnets", p.subnets)
	if match, covered := p.selector(addresses, rest); match != nil {
		object["match"] = strings.Join(match, ",")
		rest = without(rest, covered)
		if name == "" {
			for _, m := range match {
				name += "-" + m[strings.Index(m, "=")+1:]
			}
		}
	}
	if len(rest.Ranges()) > 0 {
		var words []string
		for _, x := range rest.Prefixes() {
			words = append(words, x.String())
		}
		object["prefixes"] = words
		switch {
		case name != "":
		case keyOf(rest) == p.outside[0]:
			name = "internet-ipv4"
		case keyOf(rest) == p.outside[1]:
			name = "internet-ipv6"
		default:
			name = "addresses-" + rest.Prefixes()[0].Addr().String()
		}
	}
	return object, plainName(name)
}

// selector returns the labels, few, that most of the workloads at some addresses have and no
// workload at others, and the addresses of all that have them.
func (p *place) selector(all, rest *netipx.IPSet) ([]string, *netipx.IPSet) {
	var members []int
	for i := range p.workloads {
		if holds(rest, p.workloads[i].addresses) {
			members = append(members, i)
		}
	}
	var best []string
	bestOf := []int{}
	try := func(labels []string) {
		var has []int
		for i := range p.workloads {
			if !p.workloads[i].has(labels) {
				continue
			}
			if !holds(all, p.workloads[i].addresses) {
				return
			}
			has = append(has, i)
		}
		if len(has) > len(bestOf) || len(has) == len(bestOf) && len(labels) < len(best) {
			best, bestOf = labels, has
		}
	}
	pairs := map[string]bool{}
	for _, i := range members {
		labels := p.workloads[i].pairs()
		for k, a := range labels {
			pairs[a] = true
			for _, b := range labels[k+1:] {
				pairs[a+","+b] = true
			}
		}
	}
	for _, x := range slices.Sorted(maps.Keys(pairs)) {
		try(strings.Split(x, ","))
	}
	if len(bestOf) < len(members) { // perhaps more labels together have them all
		if common := p.common(members); len(common) > 2 {
			try(common)
		}
	}
	if best == nil {
		return nil, nil
	}
	var b netipx.IPSetBuilder
	for _, i := range bestOf {
		b.AddSet(p.workloads[i].addresses)
	}
	covered, err := b.IPSet()
	if err != nil {
		return nil, nil
	}
	return best, covered
}

// common returns the labels that all of some workloads have.
func (p *place) common(members []int) []string {
	count := map[string]int{}
	for _, i := range members {
		for _, x := range p.workloads[i].pairs() {
			count[x]++
		}
	}
	maps.DeleteFunc(count, func(_ string, n int) bool { return n < len(members) })
	return slices.Sorted(maps.Keys(count))
}

func (m *machine) pairs() []string {
	var out []string
	for k, v := range m.labels {
		if !strings.ContainsAny(k+v, ",=()! ") {
			out = append(out, k+"="+v)
		}
	}
	slices.Sort(out)
	return out
}

func (m *machine) has(labels []string) bool {
	for _, l := range labels {
		k, v, _ := strings.Cut(l, "=")
		if is, ok := m.labels[k]; !ok || is != v {
			return false
		}
	}
	return true
}

// holds reports whether a set has all of another, which is not empty.
func holds(set, of *netipx.IPSet) bool {
	ranges := of.Ranges()
	for _, r := range ranges {
		if !set.ContainsRange(r) {
			return false
		}
	}
	return len(ranges) > 0
}

func without(set, of *netipx.IPSet) *netipx.IPSet {
	var b netipx.IPSetBuilder
	b.AddSet(set)
	b.RemoveSet(of)
	out, err := b.IPSet()
	if err != nil {
		return set
	}
	return out
}

// place returns what a segment holds, by what has its addresses there.
func (n *Namer) place(segment string) *place {
	if p := n.places[segment]; p != nil {
		return p
	}
	p := &place{groups: map[string]string{}}
	n.places[segment] = p
	number := n.s.Net.Segment(segment)
	if number == paths.None {
		return p
	}
	for i, g := range n.s.Judge.GroupNames() {
		if len(query.OutsideGroup(n.s, i)) > 0 {
			continue // it has members in the internet
		}
		var b netipx.IPSetBuilder
		for _, c := range n.s.ClassesOf(matrix.Node{Kind: matrix.NodeGroup, Segment: segment, Group: g}) {
			for _, r := range n.s.Classes[c].Ranges {
				b.AddRange(netipx.IPRangeFrom(r.From, r.To))
			}
		}
		if set, err := b.IPSet(); err == nil && len(set.Ranges()) > 0 {
			if key := keyOf(set); p.groups[key] == "" || g < p.groups[key] {
				p.groups[key] = g
			}
		}
	}
	p.outside = n.outside(number)
	networks, subnets := map[int]*netipx.IPSetBuilder{}, map[int]*netipx.IPSetBuilder{}
	add := func(m map[int]*netipx.IPSetBuilder, k int, r netipx.IPRange) {
		if m[k] == nil {
			m[k] = &netipx.IPSetBuilder{}
		}
		m[k].AddRange(r)
	}
	machines := map[int]*netipx.IPSetBuilder{}
	for _, c := range n.s.Inside[number] {
		x := n.s.Classes[c]
		for _, r := range x.Ranges {
			add(networks, int(x.Network), netipx.IPRangeFrom(r.From, r.To))
			if home, _ := n.s.Net.Home(number, r.From); home.Subnet != paths.None {
				add(subnets, home.Subnet, netipx.IPRangeFrom(r.From, r.To))
			}
		}
		for _, w := range x.Workloads {
			if machines[w] == nil {
				machines[w] = &netipx.IPSetBuilder{} // stays empty where an attachment translates: no label is taken then
			}
			for _, a := range n.e.Workloads[w].Addresses {
				if slices.ContainsFunc(x.Ranges, func(r intervals.Range) bool { return r.From.Compare(a) <= 0 && a.Compare(r.To) <= 0 }) {
					add(machines, w, netipx.IPRangeFrom(a, a))
				}
			}
		}
	}
	for _, k := range slices.Sorted(maps.Keys(networks)) {
		p.networks = append(p.networks, part{n.s.Net.Networks[k].Name, setOf(networks[k])})
	}
	for _, k := range slices.Sorted(maps.Keys(subnets)) {
		x := n.s.Net.Subnets[k]
		p.subnets = append(p.subnets, part{n.s.Net.Networks[x.Network].Name + "/" + x.Name, setOf(subnets[k])})
	}
	for _, k := range slices.Sorted(maps.Keys(machines)) {
		p.workloads = append(p.workloads, machine{n.e.Workloads[k].Labels, setOf(machines[k])})
	}
	return p
}

// outside returns the addresses of the internet that a segment sees, of each family.
func (n *Namer) outside(segment int) [2]string {
	var b [2]netipx.IPSetBuilder
	for _, c := range n.s.Outside {
		x := n.s.Classes[c]
		if x.Seen[segment] != classes.SeesIt {
			continue
		}
		family := 1
		if x.Four {
			family = 0
		}
		for _, r := range x.Ranges {
			b[family].AddRange(netipx.IPRangeFrom(r.From, r.To))
		}
	}
	return [2]string{keyOf(setOf(&b[0])), keyOf(setOf(&b[1]))}
}

func setOf(b *netipx.IPSetBuilder) *netipx.IPSet {
	set, err := b.IPSet()
	if err != nil {
		return &netipx.IPSet{} // ranges are of one family each
	}
	return set
}

// free returns a name that nothing of the kind has.
func (n *Namer) free(kind estate.Kind, name string) string {
	if estate.CheckName(name) != nil {
		name = plainName("by-" + name)
	}
	name = estate.FreeName(name, func(x string) bool {
		return n.taken[string(kind)+" "+x] || edit.BaseOf(n.e, estate.Ref{Kind: kind, Name: x}) != edit.Absent
	})
	n.taken[string(kind)+" "+name] = true
	return name
}

// Put appends the operation that makes a thing. Its name is the nearest to one that is free.
func (n *Namer) Put(kind estate.Kind, name string, object map[string]any) error {
	object["name"] = n.free(kind, name)
	return n.put(kind, object)
}

func (n *Namer) put(kind estate.Kind, object map[string]any) error {
	body, err := json.Marshal(object)
	if err != nil {
		return err
	}
	value, err := document.ValueOf(body)
	if err != nil {
		return err
	}
	n.Edit.Operations = append(n.Edit.Operations, edit.Operation{Op: edit.Put, Kind: kind, Object: value, Base: edit.Absent})
	return nil
}

// plainName returns text as the name of a group: it leaves room for two in the name of a policy.
func plainName(text string) string {
	const most = 24
	var b strings.Builder
	dash := false
	for _, c := range strings.ToLower(text) {
		plain := c >= 'a' && c <= 'z' || c >= '0' && c <= '9' && b.Len() > 0
		switch {
		case plain && dash:
			b.WriteByte('-')
			fallthrough
		case plain:
			b.WriteRune(c)
		}
		dash = !plain && b.Len() > 0
	}
	name := b.String()
	return strings.Trim(name[:min(len(name), most)], "-")
}

// PrefixSet returns the addresses of some prefixes.
func PrefixSet(prefixes []netip.Prefix) *netipx.IPSet {
	var b netipx.IPSetBuilder
	for _, p := range prefixes {
		b.AddPrefix(p)
	}
	return setOf(&b)
}
