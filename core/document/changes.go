package document

import (
	"bytes"
	"cmp"
	"fmt"
	"reflect"
	"slices"
	"strings"

	"bivium/core/estate"
)

// Change is one thing that differs between two estates, or stands elsewhere in its list.
type Change struct {
	List, Key     string
	Was           string // its name before, where that was another
	Before, After []byte // as JSON, canonical; nil where it is not there
	Place         int    // in the list of the second estate
}

// Moved reports whether the thing is the same, and only its place in its list differs.
func (c *Change) Moved() bool {
	return c.Was == "" && c.Before != nil && bytes.Equal(c.Before, c.After)
}

// Changes returns what differs between two estates, things that went last. Lists that the
// two share cost nothing; of others, the things that are equal are compared in memory, and
// the rest is written out. former tells the names that things of after had in before, where
// those were others; nil for none.
func Changes(before, after *estate.Estate, former map[estate.Ref]string) []Change {
	var out []Change
	was, is := reflect.ValueOf(before).Elem(), reflect.ValueOf(after).Elem()
	for _, f := range lists() {
		a, b := was.FieldByIndex(f.index), is.FieldByIndex(f.index)
		if a.Len() == b.Len() && a.Pointer() == b.Pointer() {
			continue
		}
		at := make(map[string]int, a.Len())
		for i := range a.Len() {
			at[keyOf(a.Index(i))] = i
		}
		for i := range b.Len() {
			key := keyOf(b.Index(i))
			was := former[estate.Ref{Kind: kinds[f.key], Name: key}]
			old, there := at[cmp.Or(was, key)]
			delete(at, cmp.Or(was, key))
			switch {
			case !there:
				out = append(out, Change{List: f.key, Key: key, After: body(b.Index(i)), Place: i})
			case reflect.DeepEqual(a.Index(old).Interface(), b.Index(i).Interface()):
				if old != i {
					same := body(b.Index(i))
					out = append(out, Change{List: f.key, Key: key, Before: same, After: same, Place: i})
				}
			default:
				c := Change{List: f.key, Key: key, Was: was, Before: body(a.Index(old)), After: body(b.Index(i)), Place: i}
				if old != i || !c.Moved() {
					out = append(out, c)
				}
			}
		}
		var gone []int
		for _, i := range at {
			gone = append(gone, i)
		}
		slices.Sort(gone)
		for _, i := range gone {
			out = append(out, Change{List: f.key, Key: keyOf(a.Index(i)), Before: body(a.Index(i)), Place: i})
		}
	}
	return out
}

// Empty reports whether an estate has no object of any list.
func Empty(e *estate.Estate) bool {
	v := reflect.ValueOf(e).Elem()
	return !slices.ContainsFunc(lists(), func(f field) bool { return v.FieldByIndex(f.index).Len() > 0 })
}

// Unreadable is a thing that a document could not hold.
type Unreadable struct {
	List, Key string
	Errors    Errors
}

// Error returns one error a line, each with the thing that it is about.
func (u *Unreadable) Error() string {
	lines := make([]string, len(u.Errors))
	for i, e := range u.Errors {
		e.Line = 0
		lines[i] = u.List + " " + u.Key + ": " + e.Error()
	}
	return strings.Join(lines, "\n")
}

// Admit reads everything that came or changed as strictly as Read does, and returns what
// could not be read again: such an estate must not be kept. after is the estate that the
// changes lead to. Cost: that of reading what changed, and the names of the lists that did.
func Admit(changes []Change, after *estate.Estate) []*Unreadable {
	var out []*Unreadable
	refuse := func(list, key string, errors ...Error) { out = append(out, &Unreadable{list, key, errors}) }
	touched := map[string]bool{}
	for i := range changes {
		c := &changes[i]
		if c.After == nil || c.Moved() {
			continue
		}
		touched[c.List] = true
		if errors := readObject(c.List, c.After); errors != nil {
			refuse(c.List, c.Key, errors...)
		}
	}
	v := reflect.ValueOf(after).Elem()
	for _, f := range lists() {
		list := v.FieldByIndex(f.index)
		if !touched[f.key] {
			continue
		}
		seen := make(map[string]bool, list.Len())
		for i := range list.Len() {
			key := keyOf(list.Index(i))
			if seen[key] {
				refuse(f.key, key, Error{Path: "name", Message: fmt.Sprintf("the name %q is already used", key), Fix: "choose another name"})
			}
			seen[key] = true
		}
	}
	for _, p := range ofEstate(after) {
		refuse("estate", after.Name, Error{Message: p.message, Fix: p.fix})
	}
	return out
}

// readObject reads one thing of a list, and returns what is wrong with it, nil for nothing.
func readObject(list string, body []byte) Errors {
	at := slices.IndexFunc(lists(), func(f field) bool { return f.key == list })
	if at < 0 {
		return Errors{{Message: "there is no list " + list}}
	}
	n, err := parse(body)
	if err != nil {
		return Errors{{Message: err.Error(), Fix: "write it as JSON"}}
	}
	var r reader
	thing := reflect.TypeFor[estate.Estate]().FieldByIndex(lists()[at].index).Type.Elem()
	r.value(n, reflect.New(thing).Elem(), nil, nil)
	if len(r.errors) == 0 {
		return nil
	}
	return r.errors
}
