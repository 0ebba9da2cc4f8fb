package document

import (
	"bytes"
	"fmt"
	"reflect"
	"slices"

	"bivium/core/estate"
)

// Object is one thing of an estate by itself, as it is stored.
type Object struct {
	List string // the key of its list in the document: policies
	Key  string // its name
	Body []byte // the thing as JSON, canonical
}

// lists returns the fields of the estate that are lists of things.
func lists() []field {
	t := reflect.TypeFor[estate.Estate]()
	var out []field
	for _, f := range fieldsOf(t) {
		if t.FieldByIndex(f.index).Type.Kind() == reflect.Slice {
			out = append(out, f)
		}
	}
	return out
}

// Split returns the things of e one by one, in the order of its lists.
func Split(e *estate.Estate) []Object { return SplitBut(e, nil) }

// SplitBut returns the things of e one by one, in the order of its lists, but for
// those of the lists that are its own and another's: those hold the same things.
func SplitBut(e, other *estate.Estate) []Object {
	var out []Object
	v, o := reflect.ValueOf(e).Elem(), reflect.ValueOf(other)
	for _, f := range lists() {
		list := v.FieldByIndex(f.index)
		if other != nil {
			if its := o.Elem().FieldByIndex(f.index); its.Len() == list.Len() && its.Pointer() == list.Pointer() {
				continue
			}
		}
		for i := range list.Len() {
			out = append(out, Object{f.key, keyOf(list.Index(i)), body(list.Index(i))})
		}
	}
	return out
}

// keyOf returns the name of a thing, the made-up one where it was given none.
func keyOf(v reflect.Value) string {
	if name := v.FieldByName("Name").String(); name != "" {
		return name
	}
	return madeUp(v)
}

func body(v reflect.Value) []byte {
	var b bytes.Buffer
	writeJSON(&b, canonical(v, nil), "")
	return b.Bytes()
}

// Aside is an object that cannot be read, and why.
type Aside struct {
	Object
	Errors Errors
}

// JoinReadable is Join for objects of which some may not be readable: those are left out,
// and returned.
func JoinReadable(name, description string, objects []Object) (*estate.Estate, []Aside, error) {
	e, err := Join(name, description, objects)
	if err == nil {
		return e, nil, nil
	}
	var aside []Aside
	var readable []Object
	firewalls := map[string]bool{}
	for _, o := range objects {
		errors := readObject(o.List, o.Body)
		if errors == nil && o.List == "pools" {
			errors = twiceIn(o.Body, firewalls)
		}
		if errors != nil {
			aside = append(aside, Aside{o, errors})
		} else {
			readable = append(readable, o)
		}
	}
	if len(aside) == 0 { // the fault is not with one of them
		return nil, nil, err
	}
	e, err = Join(name, description, readable)
	return e, aside, err
}

// twiceIn returns what is wrong with the firewalls of a pool if others are known that have
// their names, and makes them known else.
func twiceIn(pool []byte, known map[string]bool) Errors {
	p, err := ReadOne[estate.Pool](pool)
	if err != nil {
		return Errors{{Message: err.Error()}}
	}
	for _, f := range p.Firewalls {
		if known[f.Name] {
			return Errors{{Path: "firewalls", Message: fmt.Sprintf("another pool already has a firewall %q", f.Name), Fix: "rename one of them"}}
		}
	}
	for _, f := range p.Firewalls {
		known[f.Name] = true
	}
	return nil
}

// Join returns the estate of the given name and description that is made of
// objects, as strictly as Read does. Objects of one list come in its order.
func Join(name, description string, objects []Object) (*estate.Estate, error) {
	e := &estate.Estate{}
	byList := map[string]*node{}
	top := node{kind: objectNode}
	put := func(key string, n node) {
		top.keys = append(top.keys, keyNode{text: key})
		top.items = append(top.items, n)
	}
	put("bivium", node{text: fmt.Sprint(estate.Version)})
	put("estate", node{text: name, quoted: true})
	if description != "" {
		put("description", node{text: description, quoted: true})
	}
	for _, f := range lists() {
		byList[f.key] = &node{kind: listNode}
	}
	for _, o := range objects {
		list, ok := byList[o.List]
		if !ok {
			return nil, fmt.Errorf("%s %s: an estate has no such list", o.List, o.Key)
		}
		n, err := parse(o.Body)
		if err != nil {
			return nil, fmt.Errorf("%s %s: %w", o.List, o.Key, err)
		}
		list.items = append(list.items, n)
	}
	for _, f := range lists() {
		if len(byList[f.key].items) > 0 {
			put(f.key, *byList[f.key])
		}
	}
	var r reader
	r.value(top, reflect.ValueOf(e).Elem(), nil, nil)
	if len(r.errors) > 0 {
		return nil, r.errors
	}
	estate.NameConnections(e)
	return e, nil
}

// Locate returns the line at which each path of a document stands, 0 for paths
// that it does not have: Fault.Path becomes a place that a person can go to.
func Locate(data []byte, at []string) ([]int, error) {
	n, err := parse(data)
	if err != nil {
		return nil, err
	}
	lines := make([]int, len(at))
	for i, p := range at {
		lines[i] = n.lineOf(p)
	}
	return lines, nil
}

// lineOf follows a path such as policies[3].rules[0].pool as far as it goes.
func (n *node) lineOf(at string) int {
	for at != "" {
		var next *node
		if at[0] == '[' {
			var i int
			if _, err := fmt.Sscanf(at, "[%d]", &i); err == nil && n.kind == listNode && i < len(n.items) {
				next = &n.items[i]
			}
			at = at[1+bytes.IndexByte([]byte(at), ']'):]
		} else {
			end := bytes.IndexAny([]byte(at), ".[")
			if end < 0 {
				end = len(at)
			}
			for k := range n.keys {
				if n.keys[k].text == at[:end] {
					next = &n.items[k]
				}
			}
			at = at[end:]
		}
		if next == nil {
			break
		}
		n = next
		if at != "" && at[0] == '.' {
			at = at[1:]
		}
	}
	return int(n.line)
}

// Differing returns two estates without the lists that they share.
func Differing(a, b *estate.Estate) (*estate.Estate, *estate.Estate) {
	restA, restB := *a, *b
	x, y := reflect.ValueOf(&restA).Elem(), reflect.ValueOf(&restB).Elem()
	for _, f := range lists() {
		if p, q := x.FieldByIndex(f.index), y.FieldByIndex(f.index); p.Len() == q.Len() && p.Pointer() == q.Pointer() {
			p.SetZero()
			q.SetZero()
		}
	}
	return &restA, &restB
}

// DifferInAlone reports whether two estates share all lists but some, and their names and
// descriptions are the same.
func DifferInAlone(a, b *estate.Estate, but ...string) bool {
	x, y := reflect.ValueOf(a).Elem(), reflect.ValueOf(b).Elem()
	for _, f := range lists() {
		p, q := x.FieldByIndex(f.index), y.FieldByIndex(f.index)
		if !slices.Contains(but, f.key) && (p.Len() != q.Len() || p.Pointer() != q.Pointer()) {
			return false
		}
	}
	return a.Name == b.Name && a.Description == b.Description
}

// SameLists reports whether two estates share some of their lists.
func SameLists(a, b *estate.Estate, names ...string) bool {
	x, y := reflect.ValueOf(a).Elem(), reflect.ValueOf(b).Elem()
	for _, f := range lists() {
		p, q := x.FieldByIndex(f.index), y.FieldByIndex(f.index)
		if slices.Contains(names, f.key) && (p.Len() != q.Len() || p.Pointer() != q.Pointer()) {
			return false
		}
	}
	return true
}

// Shared returns an estate that says what e says, with the lists of known in
// place of those that are the same: what is worked out of a known list is then
// seen to hold.
func Shared(known, e *estate.Estate) *estate.Estate {
	out := *e
	from, to := reflect.ValueOf(known).Elem(), reflect.ValueOf(&out).Elem()
	for _, f := range lists() {
		if a, b := from.FieldByIndex(f.index), to.FieldByIndex(f.index); a.Len() == b.Len() && reflect.DeepEqual(a.Interface(), b.Interface()) {
			b.Set(a)
		}
	}
	return &out
}

// With returns an estate with one thing more, in place of the one of its list and name if
// there is one, read from JSON as strictly as Read does. It shares everything else with e.
func With(e *estate.Estate, list string, body []byte) (*estate.Estate, error) {
	at := slices.IndexFunc(lists(), func(f field) bool { return f.key == list })
	if at < 0 {
		return nil, fmt.Errorf("an estate has no list %s", list)
	}
	n, err := parse(body)
	if err != nil {
		return nil, err
	}
	next := *e
	to := reflect.ValueOf(&next).Elem().FieldByIndex(lists()[at].index)
	thing := reflect.New(to.Type().Elem()).Elem()
	var r reader
	r.value(n, thing, nil, nil)
	if len(r.errors) > 0 {
		return nil, r.errors
	}
	out := reflect.MakeSlice(to.Type(), 0, to.Len()+1)
	replaced := false
	for i := range to.Len() {
		if keyOf(to.Index(i)) == keyOf(thing) {
			out, replaced = reflect.Append(out, thing), true
			continue
		}
		out = reflect.Append(out, to.Index(i))
	}
	if !replaced {
		out = reflect.Append(out, thing)
	}
	to.Set(out)
	estate.NameConnections(&next)
	return &next, nil
}
