package edit

import (
	"errors"
	"fmt"
	"reflect"
	"strings"

	"bivium/core/document"
	"bivium/core/estate"
)

// Result is what an edit makes of an estate.
type Result struct {
	Estate  *estate.Estate
	Renamed []Renaming   // in their order
	Put     []estate.Ref // by operation: what it put; the zero Ref for others
}

// Renaming is a thing that got another name.
type Renaming struct {
	Of estate.Ref
	To string
}

// Former returns the names that things had before the edit, by what they are called after it.
func (r *Result) Former() map[estate.Ref]string {
	out := map[estate.Ref]string{}
	for _, x := range r.Renamed {
		to := estate.Ref{Kind: x.Of.Kind, Name: x.To}
		first := x.Of.Name
		if earlier, again := out[x.Of]; again {
			first = earlier
			delete(out, x.Of)
		}
		if out[to] = first; first == x.To {
			delete(out, to)
		}
	}
	return out
}

// Apply returns what an edit makes of e, which stays as it is and shares with the result what
// the edit does not touch. seen returns a thing as the author of the edit saw it, and may be
// nil: what syncs, routers and health checks have changed since is then kept (C1.3). Errors
// are Problems, a Conflict or an InUse. Faults of the result are not looked for. Cost: the
// lists that change, and for renaming and deleting all names of that kind.
func Apply(e *estate.Estate, edit *Edit, seen func(estate.Ref) (reflect.Value, bool)) (*Result, error) {
	next := *e
	b := &builder{result: Result{Estate: &next, Put: make([]estate.Ref, len(edit.Operations))}, own: map[estate.Kind]bool{}, seen: seen, find: newFinder(&next)}
	if len(edit.Operations) == 0 {
		return nil, Problems{{Path: "operations", Message: "there are no operations", Fix: "write at least one"}}
	}
	for i := 0; i < len(edit.Operations); {
		n := deletions(edit.Operations[i:])
		if n >= many {
			if err := b.deleteAll(i, edit.Operations[i:i+n]); err != nil {
				return nil, err
			}
			i += n
			continue
		}
		b.at, b.op = i, &edit.Operations[i]
		if err := b.make(); err != nil {
			return nil, err
		}
		i++
	}
	estate.NameConnections(&next)
	return &b.result, nil
}

// builder is an estate that is worked on. Lists are copied before they are changed for the
// first time.
type builder struct {
	result Result
	own    map[estate.Kind]bool
	seen   func(estate.Ref) (reflect.Value, bool)
	find   *finder
	at     int
	op     *Operation
}

func (b *builder) make() error {
	list := document.Things(b.result.Estate, b.op.Kind)
	if !list.IsValid() {
		return b.problem("kind", fmt.Sprintf("%q is not a kind of object", b.op.Kind), "use one of "+kindNames())
	}
	switch b.op.Op {
	case Put:
		return b.put(list)
	case Rename:
		return b.rename(list)
	default:
		return b.delete(list)
	}
}

func kindNames() string {
	var out []string
	for _, k := range document.Kinds() {
		out = append(out, string(k))
	}
	return strings.Join(out, ", ")
}

func (b *builder) problem(path, message, fix string) error {
	return Problems{{At: b.at, Path: path, Message: message, Fix: fix}}
}

// writable returns the list of a kind to write to.
func (b *builder) writable(list reflect.Value) reflect.Value {
	if !b.own[b.op.Kind] {
		b.own[b.op.Kind] = true
		mine := reflect.MakeSlice(list.Type(), list.Len(), list.Len()+1)
		reflect.Copy(mine, list)
		list.Set(mine)
	}
	return list
}

// index returns the place of a thing in its list, -1 for none.
func index(list reflect.Value, name string) int {
	for i := range list.Len() {
		if document.NameOf(list.Index(i)) == name {
			return i
		}
	}
	return -1
}

// check returns a Conflict unless a thing is as the author of the operation saw it. at is its
// place in the list, -1 where there is none.
func (b *builder) check(list reflect.Value, name string, at int) error {
	switch {
	case b.op.Base == "" || b.op.Base == Absent && at < 0:
		return nil
	case at >= 0 && b.op.Base == document.Base(list.Index(at)):
		return nil
	case at >= 0 && b.op.Base == Absent:
		return b.problem("object.name", fmt.Sprintf("%s %s already exists", b.op.Kind, name), "choose another name, such as "+free(list, name))
	}
	c := &Conflict{At: b.at, Thing: estate.Ref{Kind: b.op.Kind, Name: name}}
	if at >= 0 {
		c.Now = document.Body(list.Index(at))
	}
	return c
}

// free returns a name like the given one that nothing of the list has.
func free(list reflect.Value, like string) string {
	return estate.FreeName(like, func(name string) bool { return index(list, name) >= 0 })
}

func (b *builder) put(list reflect.Value) error {
	if !b.op.Object.Given() {
		return b.problem("object", "the object is missing", "write the whole object as it shall be")
	}
	thing, err := b.op.Object.Thing(b.op.Kind)
	var unreadable document.Errors
	if errors.As(err, &unreadable) {
		var problems Problems
		for _, e := range unreadable {
			_, path, within := strings.Cut(e.Path, "object")
			if !within {
				path = "." + e.Path
			}
			problems = append(problems, Problem{At: b.at, Line: e.Line, Path: strings.TrimSuffix("object"+path, "."), Message: e.Message, Fix: e.Fix, Character: e.Character})
		}
		return problems
	}
	if err != nil {
		return err
	}
	if b.op.Name != "" && thing.FieldByName("Name").String() == "" {
		thing.FieldByName("Name").SetString(b.op.Name)
	}
	name := document.NameOf(thing)
	if b.op.Name != "" && b.op.Name != name {
		return b.problem("object.name", fmt.Sprintf("the object is named %s, and the operation puts %s", name, b.op.Name), "use rename to give it another name")
	}
	thing.FieldByName("Name").SetString(name)
	ref := estate.Ref{Kind: b.op.Kind, Name: name}
	at := b.find.find(ref)
	if err := b.check(list, name, at); err != nil {
		return err
	}
	b.result.Put[b.at] = ref
	list = b.writable(list)
	if at < 0 {
		list.Set(reflect.Append(list, thing))
		b.find.added(ref)
		return nil
	}
	if b.seen != nil {
		if was, ok := b.seen(ref); ok {
			document.Merge(thing, was, list.Index(at))
		}
	}
	list.Index(at).Set(thing)
	return nil
}

// existing returns the place of the thing that an operation names.
func (b *builder) existing(list reflect.Value) (int, error) {
	at := b.find.find(estate.Ref{Kind: b.op.Kind, Name: b.op.Name})
	if at >= 0 {
		return at, b.check(list, b.op.Name, at)
	}
	if b.op.Base != "" && b.op.Base != Absent {
		return 0, b.check(list, b.op.Name, at)
	}
	known := map[string]bool{}
	for i := range list.Len() {
		known[document.NameOf(list.Index(i))] = true
	}
	fix := "use one that exists"
	if near := estate.Nearest(b.op.Name, known); near != "" {
		fix = "did you mean " + near + "?"
	}
	return 0, b.problem("name", fmt.Sprintf("unknown %s %q", b.op.Kind, b.op.Name), fix)
}

func (b *builder) rename(list reflect.Value) error {
	if _, err := b.existing(list); err != nil {
		return err
	}
	if err := estate.CheckName(b.op.To); err != nil {
		message, fix, _ := strings.Cut(err.Error(), "; ")
		return b.problem("to", message, fix)
	}
	if b.op.To == b.op.Name {
		return nil
	}
	if index(list, b.op.To) >= 0 {
		return b.problem("to", fmt.Sprintf("%s %s already exists", b.op.Kind, b.op.To), "choose another name, such as "+free(list, b.op.To))
	}
	of := estate.Ref{Kind: b.op.Kind, Name: b.op.Name}
	document.Rename(b.result.Estate, of, b.op.To)
	b.find = newFinder(b.result.Estate)
	clear(b.own) // its lists are new, and shared with nobody; being copied once more does no harm
	b.result.Renamed = append(b.result.Renamed, Renaming{of, b.op.To})
	return nil
}

func (b *builder) delete(list reflect.Value) error {
	at, err := b.existing(list)
	if err != nil {
		return err
	}
	ref := estate.Ref{Kind: b.op.Kind, Name: b.op.Name}
	by := document.Referrers(b.result.Estate, ref)
	for i := len(by) - 1; i >= 0; i-- { // a group may be within itself
		if by[i] == ref {
			by = append(by[:i], by[i+1:]...)
		}
	}
	if len(by) > 0 {
		return &InUse{At: b.at, Thing: ref, By: by, Along: alongWith(b.result.Estate, ref)}
	}
	list = b.writable(list)
	list.Set(reflect.AppendSlice(list.Slice(0, at), list.Slice(at+1, list.Len())))
	b.find.forget(b.op.Kind)
	return nil
}

// In returns what an author of an edit saw who saw an estate.
func In(e *estate.Estate) func(estate.Ref) (reflect.Value, bool) {
	f := newFinder(e)
	return func(ref estate.Ref) (reflect.Value, bool) {
		at := f.find(ref)
		if at < 0 {
			return reflect.Value{}, false
		}
		return document.Things(e, ref.Kind).Index(at), true
	}
}
