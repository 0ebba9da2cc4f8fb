package document

import (
	"bytes"
	"encoding/json"
	"fmt"
	"net/netip"
	"reflect"
	"slices"
	"strconv"

	"go.yaml.in/yaml/v3"

	"bivium/core/estate"
)

// Write returns the canonical form of e as YAML: keys in the order of page 2,
// named things sorted by name, rules in their own order, defaults left out.
// Comments of the file that e was read from are gone; descriptions stay.
func Write(e *estate.Estate) ([]byte, error) {
	var b bytes.Buffer
	encoder := yaml.NewEncoder(&b)
	encoder.SetIndent(2)
	top := canonical(reflect.ValueOf(*e), nil)
	top.Style = 0 // a document is never one line
	if err := encoder.Encode(top); err != nil {
		return nil, fmt.Errorf("write the estate: %w", err)
	}
	if err := encoder.Close(); err != nil {
		return nil, fmt.Errorf("write the estate: %w", err)
	}
	return b.Bytes(), nil
}

// WriteJSON returns the canonical form of e, or of one thing of package
// estate, as JSON with a line feed at its end.
func WriteJSON(thing any) ([]byte, error) {
	var b bytes.Buffer
	writeJSON(&b, canonical(reflect.Indirect(reflect.ValueOf(thing)), nil), "")
	b.WriteByte('\n')
	return b.Bytes(), nil
}

// flowWidth is how wide an object may be and still stand on one line.
const flowWidth = 100

// canonical returns v as YAML nodes, which carry everything JSON needs too.
func canonical(v reflect.Value, f *field) *yaml.Node {
	switch value := v.Interface().(type) {
	case netip.Prefix:
		return text(value.String())
	case netip.Addr:
		return text(value.String())
	case estate.SubnetRef:
		return text(value.String())
	case estate.Side:
		return wordOrNames(value.Any, "any", value.Groups)
	case estate.Scope:
		return wordOrNames(value.All, "all", value.Names)
	case estate.End:
		if value.Internet {
			return text("internet")
		}
		return object(reflect.ValueOf(value.Party))
	case estate.Term:
		return term(value)
	case estate.ServiceRef:
		if value.Name != "" {
			return text(value.Name)
		}
		return term(value.Term)
	case map[string]string:
		return labels(value)
	}
	switch v.Kind() {
	case reflect.Struct:
		return object(v)
	case reflect.Slice, reflect.Array:
		return list(v)
	case reflect.String:
		return text(v.String())
	case reflect.Bool:
		return plain("!!bool", strconv.FormatBool(v.Bool()))
	case reflect.Int:
		return plain("!!int", strconv.FormatInt(v.Int(), 10))
	}
	panic("document: cannot write " + v.Type().String())
}

func text(s string) *yaml.Node {
	n := &yaml.Node{}
	n.SetString(s)
	return n
}

func plain(tag, s string) *yaml.Node {
	return &yaml.Node{Kind: yaml.ScalarNode, Tag: tag, Value: s}
}

func object(v reflect.Value) *yaml.Node {
	n := &yaml.Node{Kind: yaml.MappingNode, Tag: "!!map"}
	for _, f := range fieldsOf(v.Type()) {
		value := v.FieldByIndex(f.index)
		if leaveOut(value, f) || f.madeUp && value.String() == madeUp(v) {
			continue
		}
		n.Content = append(n.Content, text(f.key), canonical(value, &f))
	}
	return flowIfShort(n)
}

// madeUp returns the name that a connection without one is given first.
func madeUp(v reflect.Value) string {
	switch c := v.Interface().(type) {
	case estate.Link:
		return estate.MadeUpName(c.Between[0], c.Between[1])
	case estate.Peering:
		return estate.MadeUpName(c.Between[0], c.Between[1])
	case estate.Attachment:
		return estate.MadeUpName(c.Network, c.Hub)
	}
	panic("document: no name is made up for " + v.Type().String())
}

// leaveOut reports whether the key says nothing that its absence does not.
func leaveOut(v reflect.Value, f field) bool {
	if f.required {
		return false
	}
	if f.def != "" {
		return fmt.Sprint(v.Interface()) == f.def
	}
	return v.IsZero() || v.Kind() == reflect.Slice && v.Len() == 0 && !f.empty || v.Kind() == reflect.Map && v.Len() == 0
}

func list(v reflect.Value) *yaml.Node {
	n := &yaml.Node{Kind: yaml.SequenceNode, Tag: "!!seq"}
	short := true
	for _, i := range sortedIndices(v) {
		item := canonical(v.Index(i), nil)
		n.Content = append(n.Content, item)
		short = short && item.Kind == yaml.ScalarNode
	}
	if short {
		n.Style = yaml.FlowStyle
	}
	return n
}

// sortedIndices returns the order in which the items of a list are written.
func sortedIndices(v reflect.Value) []int {
	order := make([]int, v.Len())
	for i := range order {
		order[i] = i
	}
	key := sortKey(v.Type().Elem())
	if key == nil {
		return order
	}
	keys := make([]string, v.Len())
	for i := range keys {
		keys[i] = key(v.Index(i))
	}
	slices.SortStableFunc(order, func(a, b int) int {
		switch {
		case keys[a] < keys[b]:
			return -1
		case keys[a] > keys[b]:
			return 1
		}
		return 0
	})
	return order
}

// sortKey returns what the items of a list are sorted by, or nil for lists
// whose order is kept: rules, because it decides, and names, because a person
// chose it.
func sortKey(t reflect.Type) func(reflect.Value) string {
	switch t {
	case reflect.TypeFor[estate.Link]():
		return func(v reflect.Value) string {
			l := v.Interface().(estate.Link)
			return l.Between[0] + " " + l.Between[1] + " " + l.Name
		}
	case reflect.TypeFor[estate.Peering]():
		return func(v reflect.Value) string {
			p := v.Interface().(estate.Peering)
			return p.Between[0] + " " + p.Between[1] + " " + p.Name
		}
	case reflect.TypeFor[estate.Attachment]():
		return func(v reflect.Value) string {
			a := v.Interface().(estate.Attachment)
			return a.Network + " " + a.Hub + " " + a.Name
		}
	case reflect.TypeFor[estate.Route]():
		return func(v reflect.Value) string { return prefixKey(v.Interface().(estate.Route).To) }
	case reflect.TypeFor[estate.Static]():
		return func(v reflect.Value) string { return prefixKey(v.Interface().(estate.Static).Prefix) }
	case reflect.TypeFor[estate.Learned]():
		return func(v reflect.Value) string { return prefixKey(v.Interface().(estate.Learned).Prefix) }
	}
	if t.Kind() != reflect.Struct {
		return nil
	}
	if f, ok := t.FieldByName("Name"); ok && t != reflect.TypeFor[estate.ServiceRef]() {
		return func(v reflect.Value) string { return v.FieldByIndex(f.Index).String() }
	}
	return nil
}

// prefixKey sorts IPv4 first, then by address, and the wide before the narrow.
func prefixKey(p netip.Prefix) string {
	return fmt.Sprintf("%t%x/%03d", p.Addr().Is6(), p.Addr().As16(), p.Bits())
}

func wordOrNames(all bool, word string, names []string) *yaml.Node {
	if all {
		return text(word)
	}
	return list(reflect.ValueOf(names))
}

func labels(m map[string]string) *yaml.Node {
	n := &yaml.Node{Kind: yaml.MappingNode, Tag: "!!map"}
	keys := make([]string, 0, len(m))
	for k := range m {
		keys = append(keys, k)
	}
	slices.Sort(keys)
	for _, k := range keys {
		n.Content = append(n.Content, text(k), text(m[k]))
	}
	return flowIfShort(n)
}

func term(t estate.Term) *yaml.Node {
	if t.Simple() {
		return text(t.String())
	}
	n := &yaml.Node{Kind: yaml.MappingNode, Tag: "!!map", Style: yaml.FlowStyle}
	n.Content = append(n.Content, text("protocol"), text(estate.ProtocolName(t.Protocol)))
	add := func(key string, r, all estate.Range) {
		if r == all {
			return
		}
		value := text(r.String())
		if r.Lo == r.Hi {
			value = plain("!!int", r.String())
		}
		n.Content = append(n.Content, text(key), value)
	}
	ports, sources := estate.PortsOf(t.Protocol)
	add("ports", t.Ports, ports)
	add("sourcePorts", t.SourcePorts, sources)
	return n
}

// flowIfShort sets an object on one line if it holds no lists of objects and
// fits.
func flowIfShort(n *yaml.Node) *yaml.Node {
	if width, ok := flowLength(n); ok && width <= flowWidth {
		n.Style = yaml.FlowStyle
	}
	return n
}

func flowLength(n *yaml.Node) (int, bool) {
	switch {
	case n.Kind == yaml.ScalarNode:
		return len(n.Value) + 2, true
	case n.Kind == yaml.SequenceNode && n.Style != yaml.FlowStyle:
		return 0, false
	}
	total := 2
	for _, c := range n.Content {
		width, ok := flowLength(c)
		if !ok {
			return 0, false
		}
		total += width
	}
	return total, true
}

// writeJSON writes n with an indent of two spaces; what stands on one line in
// YAML does so in JSON.
func writeJSON(b *bytes.Buffer, n *yaml.Node, indent string) {
	if n.Kind == yaml.ScalarNode {
		if n.Tag == "!!int" || n.Tag == "!!bool" {
			b.WriteString(n.Value)
			return
		}
		quoted, _ := json.Marshal(n.Value)
		b.Write(quoted)
		return
	}
	brackets, step := "[]", 1
	if n.Kind == yaml.MappingNode {
		brackets, step = "{}", 2
	}
	inner, between, end := indent+"  ", ",\n"+indent+"  ", "\n"+indent
	if n.Style == yaml.FlowStyle || len(n.Content) == 0 {
		inner, between, end = indent, ", ", ""
	}
	b.WriteByte(brackets[0])
	if end != "" {
		b.WriteString("\n" + inner)
	}
	for i := 0; i < len(n.Content); i += step {
		if i > 0 {
			b.WriteString(between)
		}
		if step == 2 {
			writeJSON(b, n.Content[i], inner)
			b.WriteString(": ")
		}
		writeJSON(b, n.Content[i+step-1], inner)
	}
	b.WriteString(end)
	b.WriteByte(brackets[1])
}
