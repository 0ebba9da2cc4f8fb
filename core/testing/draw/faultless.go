package draw

import (
	"reflect"
	"slices"
	"strconv"
	"strings"

	"pgregory.net/rapid"

	"bivium/core/estate"
)

// Faultless draws an estate and removes from it what is at fault, piece by piece, until
// nothing is. Estates that are drawn again instead would be mostly small ones. Each network
// has a subnet, and each workload an address; there is a network and a group.
func Faultless(t *rapid.T, faults func(*estate.Estate) []estate.Fault) *estate.Estate {
	e := Estate(t)
	for {
		found := faults(e)
		if len(e.Networks) == 0 || len(e.Groups) == 0 {
			return Faultless(t, faults)
		}
		if len(found) == 0 {
			return e
		}
		// From the last to the first, so that the places of others stay true.
		last := found[0].Path
		for _, f := range found {
			if comparePaths(f.Path, last) > 0 {
				last = f.Path
			}
		}
		remove(e, last)
		e.Networks = slices.DeleteFunc(e.Networks, func(n estate.Network) bool { return len(n.Subnets) == 0 })
		e.Workloads = slices.DeleteFunc(e.Workloads, func(w estate.Workload) bool { return len(w.Addresses) == 0 })
	}
}

// comparePaths orders paths by their text, numbers by their values.
func comparePaths(a, b string) int {
	return slices.CompareFunc(steps(a), steps(b), func(x, y step) int {
		if x.key != y.key {
			return strings.Compare(x.key, y.key)
		}
		return x.index - y.index
	})
}

// step is one step of a path: a key, and a place in its list, or -1.
type step struct {
	key   string
	index int
}

func steps(path string) []step {
	var out []step
	for _, part := range strings.Split(path, ".") {
		key, rest, listed := strings.Cut(part, "[")
		s := step{key, -1}
		if listed {
			s.index, _ = strconv.Atoi(strings.TrimSuffix(rest, "]"))
		}
		out = append(out, s)
	}
	return out
}

// remove removes the innermost item of a list that a path leads to; of what lists do not
// hold as they are written, such as sides, the thing that it is of.
func remove(e *estate.Estate, path string) {
	at := reflect.ValueOf(e).Elem()
	var list reflect.Value
	index := 0
	for _, s := range steps(path) {
		if at.Kind() != reflect.Struct {
			break
		}
		field := at
		for i := range at.NumField() {
			if key, _, _ := strings.Cut(at.Type().Field(i).Tag.Get("json"), ","); key == s.key {
				field = at.Field(i)
			}
		}
		if field == at || s.index >= 0 && (field.Kind() != reflect.Slice || s.index >= field.Len()) {
			break
		}
		at = field
		if s.index >= 0 {
			list, index, at = field, s.index, field.Index(s.index)
		}
	}
	out := reflect.MakeSlice(list.Type(), 0, list.Len())
	for i := range list.Len() {
		if i != index {
			out = reflect.Append(out, list.Index(i))
		}
	}
	list.Set(out)
}
