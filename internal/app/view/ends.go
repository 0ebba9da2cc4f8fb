package view

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"bivium/core/classes"
	"bivium/core/estate"
	"bivium/core/matrix"
	"bivium/core/paths"
	"bivium/core/query"
	"bivium/core/verdict"
)

// end is one end of a question, understood.
type end struct {
	text        string
	internet    bool
	external    bool // an external address
	segment     int  // that was named with it; paths.None for any
	addresses   []netip.Addr
	literal     bool   // an address that no segment was named with: what has it, the other end's segment says
	publication string // of a published address
	set         matrix.Set
}

// single reports whether the end is one address.
func (e *end) single() bool { return len(e.addresses) == 1 }

// kinds are the words that may stand before a name to say what it names.
var kinds = []string{"workload", "group", "segment", "network"}

// findEnd understands one end of a question: internet, a workload, a group, a
// segment, a network, an address, SEGMENT:ADDRESS, SEGMENT:GROUP,
// internet:ADDRESS, or a published address.
func (s *Snapshot) findEnd(field, text string) (*end, error) {
	text = strings.ToLower(strings.TrimSpace(text))
	e := &end{text: text, segment: paths.None}
	if text == "" {
		return nil, &Problem{At: field, Message: "the endpoint is missing", Fix: "enter a workload, group, segment, network, address, or internet"}
	}
	if text == "internet" {
		e.internet = true
		e.set = s.Matrix.SetOf(matrix.Node{Kind: matrix.NodeInternet})
		return e, nil
	}
	if a, err := netip.ParseAddr(text); err == nil {
		return e, s.findAddress(e, field, a)
	}
	name, kind := text, ""
	if before, after, ok := strings.Cut(text, ":"); ok {
		if before == verdict.Internet {
			return e, s.findExternal(e, field, after)
		}
		if slices.Contains(kinds, before) {
			kind, name = before, after
		} else if e.segment = s.Judge.Net.Segment(before); e.segment != paths.None {
			if a, err := parseAddr(after); err == nil {
				return e, s.findAddress(e, field, a)
			}
			name = after
		}
	}
	return e, s.findName(e, field, kind, name)
}

func (s *Snapshot) findExternal(e *end, field, text string) error {
	a, err := parseAddr(text)
	if err != nil {
		return &Problem{At: field, Message: fmt.Sprintf("%q is not an address", text), Fix: "write internet, or internet: and an address like 198.51.100.7"}
	}
	a = a.Unmap()
	e.internet, e.external, e.addresses = true, true, []netip.Addr{a}
	c, ok := query.OutsideAt(s.Matrix, a)
	if !ok {
		return &Problem{At: field, Message: fmt.Sprintf("%s is a private address and cannot be on the internet", a), Fix: "write a public address"}
	}
	e.set = matrix.Set{{Class: c, Only: a}}
	return nil
}

// findAddress understands an address: what is published under it, or what has
// it in the segment that was named or, if none was, in the only one that does.
func (s *Snapshot) findAddress(e *end, field string, a netip.Addr) error {
	a = a.Unmap()
	e.addresses, e.literal = []netip.Addr{a}, e.segment == paths.None
	if p, ok := s.published(a); ok && field == "to" && e.segment == paths.None {
		return s.findPublished(e, field, p)
	}
	var homes []int
	for i := range s.Judge.Net.Segments {
		if e.segment != paths.None && e.segment != i {
			continue
		}
		if c, ok := query.ClassAt(s.Matrix, i, a); ok {
			homes = append(homes, i)
			e.set = append(e.set, matrix.Member{Class: c, Only: a})
		}
	}
	if len(homes) == 0 && field == "to" {
		// Which segment asks decides what this is; see narrow.
		if c, ok := query.OutsideAt(s.Matrix, a); ok {
			e.external = true
			e.set = matrix.Set{{Class: c, Only: a}}
		}
		return nil
	}
	switch {
	case len(homes) == 0 && paths.Private(a):
		return &Problem{At: field, Message: fmt.Sprintf("%s is in no segment", a), Fix: "it is in no subnet, and no attachment advertises it"}
	case len(homes) == 0:
		return &Problem{At: field, Message: fmt.Sprintf("%s is in no segment", a), Fix: "for a source on the internet write internet:" + a.String()}
	}
	if len(homes) > 1 && field == "from" {
		names := make([]string, len(homes))
		for i, h := range homes {
			names[i] = s.Judge.Net.Segments[h]
		}
		return &Problem{At: field, Message: fmt.Sprintf("%s exists in %s", a, strings.Join(names, " and ")), Fix: fmt.Sprintf("write %s:%s, or another of the segments", names[0], a)}
	}
	if len(homes) == 1 {
		e.segment = homes[0]
	}
	return nil
}

func (s *Snapshot) published(a netip.Addr) (*estate.Publication, bool) {
	for i := range s.Estate.Publications {
		if p := &s.Estate.Publications[i]; p.Address == a {
			return p, true
		}
	}
	return nil, false
}

// findPublished takes a published address for the endpoints behind it.
func (s *Snapshot) findPublished(e *end, field string, p *estate.Publication) error {
	e.publication, e.addresses = p.Name, nil
	e.segment = s.Judge.Net.Segment(p.To.Segment)
	for _, g := range p.To.Groups.Groups {
		for _, m := range s.Matrix.SetOf(matrix.Node{Kind: matrix.NodeGroup, Segment: p.To.Segment, Group: g}) {
			if !slices.Contains(e.set, m) {
				e.set = append(e.set, m)
			}
		}
	}
	if p.To.Groups.Any {
		e.set = s.Matrix.SetOf(matrix.Node{Kind: matrix.NodeSegment, Segment: p.To.Segment})
	}
	if len(e.set) == 0 {
		return &Problem{At: field, Message: fmt.Sprintf("publication %s has no destinations", p.Name), Fix: "its groups have no members in " + p.To.Segment}
	}
	return nil
}

// findName understands a name: of the kind that was said, or of the first kind
// that has it.
func (s *Snapshot) findName(e *end, field, kind, name string) error {
	is := func(k string) bool { return kind == "" || kind == k }
	if w, ok := s.Index.Workload[name]; ok && is("workload") && e.segment == paths.None {
		return s.findWorkload(e, field, w)
	}
	if g := s.Judge.Group(name); g != paths.None && is("group") {
		e.set = query.Where(s.Matrix, func(c *classes.Class) bool {
			_, in := slices.BinarySearch(c.End.Groups, g)
			return in && (e.segment == paths.None || c.End.Segment == e.segment)
		})
		if e.segment == paths.None {
			e.set = append(e.set, query.OutsideGroup(s.Matrix, g)...)
		}
		return s.notEmpty(e, field, "group "+name+" has no members")
	}
	if i := s.Judge.Net.Segment(name); i != paths.None && is("segment") && e.segment == paths.None {
		e.segment = i
		e.set = s.Matrix.SetOf(matrix.Node{Kind: matrix.NodeSegment, Segment: name})
		return s.notEmpty(e, field, "segment "+name+" has no addresses")
	}
	if n := s.Judge.Net.Network(name); n != paths.None && is("network") {
		e.set = query.Where(s.Matrix, func(c *classes.Class) bool {
			return c.End.Home.Network == n && (e.segment == paths.None || c.End.Segment == e.segment)
		})
		return s.notEmpty(e, field, "no segment contains a subnet of network "+name)
	}
	return s.unknown(field, name)
}

func (s *Snapshot) notEmpty(e *end, field, message string) error {
	if len(e.set) == 0 {
		return &Problem{At: field, Message: message, Fix: ""}
	}
	return nil
}

func (s *Snapshot) findWorkload(e *end, field string, w int) error {
	work := &s.Estate.Workloads[w]
	for _, p := range s.Judge.EndsOf(w) {
		if c, ok := query.ClassAt(s.Matrix, p.Segment, p.Addr); ok {
			e.segment = p.Segment
			e.addresses = append(e.addresses, p.Addr)
			e.set = append(e.set, matrix.Member{Class: c, Only: p.Addr})
		}
	}
	if len(e.set) == 0 {
		return &Problem{At: field, Message: fmt.Sprintf("workload %s is in no segment", work.Name), Fix: fmt.Sprintf("assign its subnet of network %s to a segment", work.Network)}
	}
	return nil
}

func (s *Snapshot) unknown(field, name string) error {
	known := make(map[string]bool, len(s.Index.ends))
	for _, c := range s.Index.ends {
		known[c.Text] = true
	}
	fix := "enter a workload, group, segment, network, address, or internet"
	if near := estate.Nearest(name, known); near != "" {
		fix = "did you mean " + near + "?"
	}
	return &Problem{At: field, Message: fmt.Sprintf("unknown name %q", name), Fix: fix}
}
