// Package document reads and writes the estate document: YAML 1.2 or JSON, the
// same things in either. What the keys are, which must be there, and what they
// stand for when left out is said once, by the tags of package estate; reading,
// writing and the published schema follow from them.
package document

import (
	"encoding/binary"
	"fmt"
	"math"
	"net/netip"
	"reflect"
	"runtime"
	"slices"
	"strconv"
	"strings"

	"bivium/core/estate"
	"bivium/core/limits"
	"bivium/core/parallel"
)

// Read returns the estate that data holds, with every default filled in. An
// unreadable document gives Errors: all that could be found, each with its
// line, and no estate. Faults (M9) are not errors; see estate.Check.
func Read(data []byte) (*estate.Estate, error) {
	e, err := ReadOne[estate.Estate](data)
	if err != nil {
		return nil, err
	}
	estate.NameConnections(&e)
	return &e, nil
}

// ReadOne returns one thing of package estate, such as a Policy, that data
// holds by itself, as strictly as Read does.
func ReadOne[T any](data []byte) (T, error) {
	var value T
	n, err := parse(data)
	if err != nil {
		return value, err
	}
	var r reader
	r.value(n, reflect.ValueOf(&value).Elem(), nil, nil)
	if len(r.errors) > 0 {
		var zero T
		slices.SortStableFunc(r.errors, func(a, b Error) int { return a.Line - b.Line })
		return zero, r.errors
	}
	return value, nil
}

// path is where in the document the reader is; nil is the top.
type path struct {
	up    *path
	key   string
	index int
	depth int // of what it leads to, from 1
}

// String returns the path as faults write it: policies[3].rules[0].
func (p *path) String() string {
	if p == nil {
		return ""
	}
	if p.key == "" {
		return p.up.String() + "[" + strconv.Itoa(p.index) + "]"
	}
	if p.up == nil {
		return p.key
	}
	return p.up.String() + "." + p.key
}

type reader struct {
	errors Errors
	known  map[string]map[string]string   // labels that were read before, by how they are written
	memory []byte                         // for such a key
	steps  [limits.DocumentDepth + 2]path // by depth: the step at hand, so that going down costs nothing
}

// key returns the path to a key of what is at another.
func (r *reader) key(at *path, key string) *path { return r.step(path{up: at, key: key}) }

// index returns the path to an item of what is at another.
func (r *reader) index(at *path, index int) *path { return r.step(path{up: at, index: index}) }

func (r *reader) step(p path) *path {
	if p.up != nil {
		p.depth = p.up.depth
	}
	p.depth++
	r.steps[p.depth] = p
	return &r.steps[p.depth]
}

func (r *reader) fail(n node, at *path, fix, message string, args ...any) {
	r.failIn(n, at, 0, fix, message, args...)
}

// failIn fails at a character of a value, from 1.
func (r *reader) failIn(n node, at *path, character int, fix, message string, args ...any) {
	if len(r.errors) < limits.DocumentErrors {
		r.errors = append(r.errors, Error{Line: int(n.line), Path: at.String(), Message: fmt.Sprintf(message, args...), Fix: fix, Character: character})
	}
}

// refuse fails with an error that says what is wrong and, after a semicolon, how to fix it.
func (r *reader) refuse(n node, at *path, err error) {
	message, fix, _ := strings.Cut(err.Error(), "; ")
	r.fail(n, at, fix, "%s", message)
}

// text returns the text of a scalar, or fails.
func (r *reader) text(n node, at *path) (string, bool) {
	if n.kind != scalarNode {
		r.fail(n, at, "write one value", "%s found where text is expected", n.kind)
		return "", false
	}
	return n.text, true
}

// value reads n into v. f is what the tags say of v, or nil.
func (r *reader) value(n node, v reflect.Value, f *field, at *path) {
	switch target := v.Addr().Interface().(type) {
	case *netip.Prefix:
		r.parsed(n, at, func(s string) (err error) { *target, err = parsePrefix(s); return })
	case *netip.Addr:
		r.parsed(n, at, func(s string) (err error) { *target, err = parseAddr(s); return })
	case *estate.Via:
		r.parsed(n, at, func(s string) (err error) { *target, err = estate.ParseVia(s); return })
	case *estate.SubnetRef:
		r.parsed(n, at, func(s string) error { return target.UnmarshalText([]byte(s)) })
	case *estate.Side:
		target.Any, target.Groups = r.wordOrNames(n, "any", at)
	case *estate.Scope:
		target.All, target.Names = r.wordOrNames(n, "all", at)
	case *estate.End:
		if n.kind == scalarNode && n.text == "internet" {
			target.Internet = true
			return
		}
		r.object(n, reflect.ValueOf(&target.Party).Elem(), at)
	case *estate.Term:
		*target = r.term(n, at)
	case *estate.ServiceRef:
		if n.kind == objectNode {
			target.Term = r.term(n, at)
			return
		}
		r.parsed(n, at, func(s string) (err error) { *target, err = estate.ParseServiceRef(s); return })
	case *Value:
		*target = Value{n: n, at: at.String()}
	case *map[string]string:
		*target = r.labels(n, at)
	case *bool:
		*target = r.boolean(n, at)
	case *int:
		*target = r.number(n, f, at)
	default:
		switch v.Kind() {
		case reflect.Struct:
			r.object(n, v, at)
		case reflect.Slice, reflect.Array:
			r.list(n, v, f, at)
		case reflect.String:
			r.string(n, v, f, at)
		default:
			panic("document: cannot read into " + v.Type().String())
		}
	}
}

func (r *reader) parsed(n node, at *path, parse func(string) error) {
	if s, ok := r.text(n, at); ok {
		if err := parse(s); err != nil {
			r.refuse(n, at, err)
		}
	}
}

func (r *reader) object(n node, v reflect.Value, at *path) {
	if n.kind != objectNode {
		r.fail(n, at, "write keys and values", "%s found where an object is expected", n.kind)
		return
	}
	fields := fieldsOf(v.Type())
	given := make([]bool, len(fields))
	for i, key := range n.keys {
		k := slices.IndexFunc(fields, func(f field) bool { return f.key == key.text })
		switch {
		case k < 0:
			r.unknownKey(key, fields, at)
		case given[k]:
			r.fail(key.node(), r.key(at, key.text), "keep one of them", "the key appears twice")
		default:
			given[k] = true
			r.value(n.items[i], v.FieldByIndex(fields[k].index), &fields[k], r.key(at, key.text))
		}
	}
	for k := range fields {
		f := &fields[k]
		switch {
		case given[k]:
		case f.required:
			r.fail(n, at, "add it", "the key %q is missing", f.key)
		case f.def != "":
			r.value(node{text: f.def}, v.FieldByIndex(f.index), nil, at)
		}
	}
	for _, p := range problemsOf(v.Addr().Interface()) {
		where := at
		if p.key != "" {
			where = r.key(at, p.key)
		}
		r.failIn(n, where, p.character, p.fix, "%s", p.message)
	}
}

func (r *reader) unknownKey(key keyNode, fields []field, at *path) {
	if len(r.errors) == limits.DocumentErrors {
		return // looking for the key that was meant would be for nothing
	}
	known := make(map[string]bool, len(fields))
	names := make([]string, len(fields))
	for i, f := range fields {
		known[f.key], names[i] = true, f.key
	}
	fix := "the keys here are " + strings.Join(names, ", ")
	if near := estate.Nearest(key.text, known); near != "" {
		fix = "did you mean " + near + "?"
	}
	r.fail(key.node(), at, fix, "unknown key %q", key.text)
}

func (r *reader) list(n node, v reflect.Value, f *field, at *path) {
	if n.kind != listNode {
		r.fail(n, at, "write a list", "%s found where a list is expected", n.kind)
		return
	}
	if v.Kind() == reflect.Array {
		if len(n.items) != v.Len() {
			r.fail(n, at, fmt.Sprintf("name %d", v.Len()), "the list has %d items; expected %d", len(n.items), v.Len())
			return
		}
	} else {
		v.Set(reflect.MakeSlice(v.Type(), len(n.items), len(n.items)))
	}
	r.items(n, v, f, at)
	r.uniqueNames(n, v, at)
}

// longList is how many items of a list are worth a reader of their own.
const longList = 4096

// items reads the items of a list, those of a long one side by side.
func (r *reader) items(n node, v reflect.Value, f *field, at *path) {
	read := func(to *reader, from, end int) {
		for i := from; i < end; i++ {
			to.value(n.items[i], v.Index(i), f, to.index(at, i))
		}
	}
	shares := min(runtime.GOMAXPROCS(0), len(n.items)/longList)
	if shares < 2 {
		read(r, 0, len(n.items))
		return
	}
	parts := make([]reader, shares)
	var wait parallel.Group
	for i := range parts {
		wait.Go(func() { read(&parts[i], i*len(n.items)/len(parts), (i+1)*len(n.items)/len(parts)) })
	}
	wait.Wait()
	for i := range parts { // in order, and as many as one reader keeps
		left := limits.DocumentErrors - len(r.errors)
		r.errors = append(r.errors, parts[i].errors[:min(left, len(parts[i].errors))]...)
	}
}

// uniqueNames holds "names are unique per kind" for a list of named things;
// those of subnets are unique within their network.
func (r *reader) uniqueNames(n node, v reflect.Value, at *path) {
	if v.Type().Elem().Kind() != reflect.Struct {
		return
	}
	f := slices.IndexFunc(fieldsOf(v.Type().Elem()), func(f field) bool { return f.key == "name" && f.name })
	if f < 0 {
		return
	}
	index := fieldsOf(v.Type().Elem())[f].index
	seen := make(map[string]int, v.Len())
	for i := range v.Len() {
		name := v.Index(i).FieldByIndex(index).String()
		if first, twice := seen[name]; twice && name != "" {
			r.fail(n.items[i], r.index(at, i), "rename one of them", "the name %q is already used on line %d", name, n.items[first].line)
			continue
		}
		seen[name] = i
	}
}

func (r *reader) string(n node, v reflect.Value, f *field, at *path) {
	s, ok := r.text(n, at)
	if !ok {
		return
	}
	v.SetString(s)
	if f == nil {
		return
	}
	if f.enum != nil && !slices.Contains(f.enum, s) {
		r.fail(n, at, "write "+strings.Join(f.enum, " or "), "%q is no %s", s, f.key)
	}
	if f.date {
		if err := estate.CheckDay(s); err != nil {
			r.refuse(n, at, err)
		}
	}
	if f.name {
		if err := estate.CheckName(s); err != nil {
			r.refuse(n, at, err)
		}
	}
}

func (r *reader) boolean(n node, at *path) bool {
	if n.kind != scalarNode || n.quoted || n.text != "true" && n.text != "false" {
		r.fail(n, at, "write true or false", "%q is neither true nor false", n.text)
	}
	return n.text == "true"
}

func (r *reader) number(n node, f *field, at *path) int {
	i, err := strconv.Atoi(n.text)
	if n.kind != scalarNode || n.quoted || err != nil {
		r.fail(n, at, "write a whole number", "%q is not a whole number", n.text)
		return 0
	}
	if f != nil && f.bounded && i < f.min {
		r.fail(n, at, fmt.Sprintf("write %d or more", f.min), "%d is too small", i)
	}
	most := math.MaxInt32
	if f != nil && f.max > 0 {
		most = f.max
	}
	if i > most {
		r.fail(n, at, fmt.Sprintf("write at most %d", most), "%d is too large", i)
	}
	return i
}

func (r *reader) wordOrNames(n node, word string, at *path) (bool, []string) {
	if n.kind == scalarNode && n.text == word {
		return true, nil
	}
	if n.kind != listNode {
		r.fail(n, at, "write "+word+", or a list of names in brackets", "%s found where %q or a list of names is expected", describe(n), word)
		return false, nil
	}
	names := make([]string, len(n.items))
	r.list(n, reflect.ValueOf(&names).Elem(), &field{name: true}, at)
	return false, names
}

func describe(n node) string {
	if n.kind == scalarNode {
		return strconv.Quote(n.text)
	}
	return n.kind.String()
}

func (r *reader) labels(n node, at *path) map[string]string {
	if n.kind != objectNode {
		r.fail(n, at, "write key: value", "%s found where labels are expected", n.kind)
		return nil
	}
	written := r.written(n)
	if known, ok := r.known[string(written)]; ok && len(written) > 0 {
		return known
	}
	errors := len(r.errors)
	labels := make(map[string]string, len(n.keys))
	for i, key := range n.keys {
		here := r.key(at, key.text)
		value, ok := r.text(n.items[i], here)
		if !ok {
			continue
		}
		if _, twice := labels[key.text]; twice {
			r.fail(key.node(), here, "keep one of them", "the label appears twice")
		}
		if err := estate.CheckLabel(key.text, value); err != nil {
			r.refuse(key.node(), here, err)
		}
		labels[key.text] = value
	}
	if len(written) > 0 && len(r.errors) == errors {
		if r.known == nil {
			r.known = map[string]map[string]string{}
		}
		r.known[string(written)] = labels
	}
	return labels
}

// written returns a key of labels as they are written, empty if they are no texts. Many
// workloads have the same labels: they share one map, which nobody changes.
func (r *reader) written(n node) []byte {
	key := r.memory[:0]
	for i := range n.keys {
		if n.items[i].kind != scalarNode {
			return nil
		}
		for _, text := range [2]string{n.keys[i].text, n.items[i].text} { // whatever stands in it
			key = append(binary.AppendUvarint(key, uint64(len(text))), text...)
		}
	}
	r.memory = key
	return key
}

// term reads a term in either form.
func (r *reader) term(n node, at *path) estate.Term {
	var t estate.Term
	if n.kind != objectNode {
		r.parsed(n, at, func(s string) (err error) { t, err = estate.ParseTerm(s); return })
		return t
	}
	var o struct {
		Protocol    string `json:"protocol" doc:"req"`
		Ports       string `json:"ports"`
		SourcePorts string `json:"sourcePorts"`
	}
	before := len(r.errors)
	r.object(n, reflect.ValueOf(&o).Elem(), at)
	if len(r.errors) > before {
		return t
	}
	t, err := estate.ParseTermObject(o.Protocol, o.Ports, o.SourcePorts)
	if err != nil {
		r.refuse(n, at, err)
	}
	return t
}

func parsePrefix(s string) (netip.Prefix, error) {
	p, err := netip.ParsePrefix(s)
	if err != nil {
		return netip.Prefix{}, fmt.Errorf("%q is not a prefix; write one like 10.1.0.0/24 or 2001:db8::/32", s)
	}
	return p, estate.CheckPrefix(p)
}

func parseAddr(s string) (netip.Addr, error) {
	a, err := netip.ParseAddr(s)
	if err != nil || a.Zone() != "" {
		return netip.Addr{}, fmt.Errorf("%q is not an address; write one like 10.1.0.7 or 2001:db8::7", s)
	}
	return a, estate.CheckAddr(a)
}
