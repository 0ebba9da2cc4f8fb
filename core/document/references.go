package document

import (
	"reflect"
	"slices"
	"sync"

	"bivium/core/estate"
)

// kinds are the kinds of things that an estate has lists of, by the list's key.
var kinds = map[string]estate.Kind{
	"accounts": estate.KindAccount, "hubs": estate.KindHub, "links": estate.KindLink, "segments": estate.KindSegment,
	"networks": estate.KindNetwork, "attachments": estate.KindAttachment, "peerings": estate.KindPeering, "exits": estate.KindExit,
	"publications": estate.KindPublication, "workloads": estate.KindWorkload, "services": estate.KindService, "groups": estate.KindGroup,
	"pools": estate.KindPool, "rulebooks": estate.KindRulebook, "policies": estate.KindPolicy, "shares": estate.KindShare,
	"expectations": estate.KindExpectation, "mappings": estate.KindMapping,
}

// Kinds returns the kinds of things that an estate has lists of, in the order of the lists.
func Kinds() []estate.Kind {
	var out []estate.Kind
	for _, f := range lists() {
		out = append(out, kinds[f.key])
	}
	return out
}

// ListOf returns the key of the list of a kind of things, "" for kinds that have none.
func ListOf(kind estate.Kind) string { return listsByKind[kind] }

var listsByKind = func() map[estate.Kind]string {
	out := map[estate.Kind]string{}
	for list, kind := range kinds {
		out[kind] = list
	}
	return out
}()

// KindOf returns the kind of the things of a list.
func KindOf(list string) estate.Kind { return kinds[list] }

// Things returns the list of a kind in e as a settable value; the zero Value for kinds that
// have none.
func Things(e *estate.Estate, kind estate.Kind) reflect.Value {
	list := ListOf(kind)
	for _, f := range lists() {
		if f.key == list {
			return reflect.ValueOf(e).Elem().FieldByIndex(f.index)
		}
	}
	return reflect.Value{}
}

// NameOf returns the name of one thing of an estate.
func NameOf(thing reflect.Value) string { return keyOf(thing) }

// Body returns one thing of an estate as canonical JSON.
func Body(thing reflect.Value) []byte { return body(thing) }

// referring caches by type which kinds of things its values may have names of.
var referring sync.Map // reflect.Type to map[estate.Kind]bool

// kindsIn returns the kinds of things that values of a type may have names of.
func kindsIn(t reflect.Type) map[estate.Kind]bool {
	if known, ok := referring.Load(t); ok {
		return known.(map[estate.Kind]bool)
	}
	out := map[estate.Kind]bool{}
	for _, kind := range Kinds() {
		if findRefer(t, kind) {
			out[kind] = true
		}
	}
	referring.Store(t, out)
	return out
}

// mayRefer reports whether things of a type may have names of things of a kind in them.
func mayRefer(t reflect.Type, kind estate.Kind) bool { return kindsIn(t)[kind] }

func findRefer(t reflect.Type, kind estate.Kind) bool {
	switch t {
	case reflect.TypeFor[estate.Side]():
		return kind == estate.KindGroup
	case reflect.TypeFor[estate.Scope]():
		return kind == estate.KindSegment
	case reflect.TypeFor[estate.ServiceRef]():
		return kind == estate.KindService
	case reflect.TypeFor[estate.SubnetRef](), reflect.TypeFor[estate.Via]():
		return kind == estate.KindNetwork
	case reflect.TypeFor[estate.End]():
		return findRefer(reflect.TypeFor[estate.Party](), kind)
	}
	switch t.Kind() {
	case reflect.Slice, reflect.Array:
		return findRefer(t.Elem(), kind)
	case reflect.Struct:
		return slices.ContainsFunc(fieldsOf(t), func(f field) bool { return f.of == kind || findRefer(t.FieldByIndex(f.index).Type, kind) })
	}
	return false
}

// refersTo reports whether a value has a name in it.
func refersTo(v reflect.Value, to estate.Ref) bool {
	return !eachName(v, nil, to.Kind, func(name string) bool { return name != to.Name })
}

// eachName calls f with the names of things of a kind that a value has in it, until f returns
// false, which it returns then. in is what the tags say of the value, or nil.
func eachName(v reflect.Value, in *field, kind estate.Kind, f func(name string) bool) bool {
	all := func(names []string, of estate.Kind) bool {
		return of != kind || !slices.ContainsFunc(names, func(name string) bool { return !f(name) })
	}
	one := func(name string, of estate.Kind) bool { return of != kind || f(name) }
	switch value := v.Addr().Interface().(type) {
	case *estate.Side:
		return all(value.Groups, estate.KindGroup)
	case *estate.Scope:
		return all(value.Names, estate.KindSegment)
	case *estate.ServiceRef:
		return one(value.Name, estate.KindService)
	case *estate.SubnetRef:
		return one(value.Network, estate.KindNetwork)
	case *estate.Via:
		peer, ok := value.Peer()
		return !ok || one(peer, estate.KindNetwork)
	case *estate.End:
		return value.Internet || eachName(reflect.ValueOf(&value.Party).Elem(), in, kind, f)
	case *[]string:
		return in == nil || all(*value, in.of)
	}
	switch v.Kind() {
	case reflect.String:
		return in == nil || one(v.String(), in.of)
	case reflect.Slice, reflect.Array:
		if in != nil && in.of == kind || mayRefer(v.Type(), kind) {
			for i := range v.Len() {
				if !eachName(v.Index(i), in, kind, f) {
					return false
				}
			}
		}
	case reflect.Struct:
		of := fieldsOf(v.Type())
		for i := range of {
			if sub := v.FieldByIndex(of[i].index); (of[i].of == kind || mayRefer(sub.Type(), kind)) && !eachName(sub, &of[i], kind, f) {
				return false
			}
		}
	}
	return true
}

// Referrers returns the things of e that refer to one of its things, in the order of their
// lists. Cost: all names of that kind in e.
func Referrers(e *estate.Estate, to estate.Ref) []estate.Ref {
	var out []estate.Ref
	eachReferrer(e, to, func(kind estate.Kind, thing reflect.Value) {
		out = append(out, estate.Ref{Kind: kind, Name: keyOf(thing)})
	})
	return out
}

func eachReferrer(e *estate.Estate, to estate.Ref, f func(kind estate.Kind, thing reflect.Value)) {
	for _, kind := range Kinds() {
		list := Things(e, kind)
		if !mayRefer(list.Type(), to.Kind) {
			continue
		}
		for i := range list.Len() {
			if refersTo(list.Index(i), to) {
				f(kind, list.Index(i))
			}
		}
	}
}

// AllReferrers returns, for each name in e, the things that refer to it, in the order of their
// lists. Cost: all names in e, once.
func AllReferrers(e *estate.Estate) map[estate.Ref][]estate.Ref {
	out := map[estate.Ref][]estate.Ref{}
	for _, kind := range Kinds() {
		list := Things(e, kind)
		for to := range kindsIn(list.Type()) {
			for i := range list.Len() {
				by := estate.Ref{Kind: kind, Name: keyOf(list.Index(i))}
				eachName(list.Index(i), nil, to, func(name string) bool {
					ref := estate.Ref{Kind: to, Name: name}
					if has := out[ref]; len(has) == 0 || has[len(has)-1] != by {
						out[ref] = append(has, by)
					}
					return true
				})
			}
		}
	}
	return out
}

// Rename gives a thing of e another name, in e and in everything that refers to it. The
// lists of e that change are copied first.
func Rename(e *estate.Estate, of estate.Ref, to string) {
	r := rewriting{of: of, to: to}
	for _, kind := range Kinds() {
		list := Things(e, kind)
		refer := mayRefer(list.Type(), of.Kind)
		if !refer && kind != of.Kind {
			continue
		}
		own := false
		for i := range list.Len() {
			is := kind == of.Kind && keyOf(list.Index(i)) == of.Name
			if !is && !(refer && refersTo(list.Index(i), of)) {
				continue
			}
			if !own {
				list.Set(copied(list))
				own = true
			}
			thing := deepCopy(list.Index(i))
			if is {
				thing.FieldByName("Name").SetString(to)
			}
			r.rewrite(thing, nil)
			list.Index(i).Set(thing)
		}
	}
}

// Removal is what has to change so that nothing refers to a thing any more.
type Removal struct {
	Changed []reflect.Value // without the names; in the order of the lists
	Gone    []estate.Ref    // what is nothing without it
}

// WithoutReferences returns what has to change so that nothing of e refers to a thing: a name
// is taken out of its list, and a thing or a part of one goes where what is left of it would
// have no meaning or a wider one (a side or list without names, a rule without its pool).
// Nothing is changed.
func WithoutReferences(e *estate.Estate, to estate.Ref) *Removal {
	out := &Removal{}
	r := rewriting{of: to, drop: true}
	eachReferrer(e, to, func(kind estate.Kind, thing reflect.Value) {
		next := deepCopy(thing)
		if kind == estate.KindNetwork && to.Kind == estate.KindSegment {
			keepOutOfSegment(next.Addr().Interface().(*estate.Network), to.Name)
		}
		gone := r.rewrite(next, nil)
		if g, ok := next.Interface().(estate.Group); ok && g.Empty() {
			gone = true
		}
		if gone {
			out.Gone = append(out.Gone, estate.Ref{Kind: kind, Name: keyOf(thing)})
		} else {
			out.Changed = append(out.Changed, next)
		}
	})
	return out
}

// keepOutOfSegment writes out the segment of each subnet where some say their own that goes:
// they would else be in that of their network.
func keepOutOfSegment(n *estate.Network, segment string) {
	if n.Segment == "" || n.Segment == segment || !slices.ContainsFunc(n.Subnets, func(s estate.Subnet) bool { return s.Segment == segment }) {
		return
	}
	for i := range n.Subnets {
		n.Subnets[i].Segment = n.SegmentOf(&n.Subnets[i])
	}
	n.Segment = ""
}

// rewriting replaces or takes out a name wherever it refers to a thing.
type rewriting struct {
	of   estate.Ref
	to   string
	drop bool
}

// rewrite works on a value that nothing else shares, and reports whether it is nothing any
// more.
func (r *rewriting) rewrite(v reflect.Value, in *field) (gone bool) {
	switch value := v.Addr().Interface().(type) {
	case *estate.Side:
		return r.of.Kind == estate.KindGroup && r.names(&value.Groups)
	case *estate.Scope:
		return r.of.Kind == estate.KindSegment && r.names(&value.Names)
	case *estate.ServiceRef:
		if r.of.Kind == estate.KindService && value.Name == r.of.Name {
			value.Name, gone = r.to, r.drop
		}
		return gone
	case *estate.SubnetRef:
		if r.of.Kind == estate.KindNetwork && value.Network == r.of.Name {
			value.Network, gone = r.to, r.drop
		}
		return gone
	case *estate.Via:
		if peer, ok := value.Peer(); ok && r.of.Kind == estate.KindNetwork && peer == r.of.Name {
			*value, gone = estate.Via("peer:"+r.to), r.drop
		}
		return gone
	case *estate.End:
		return !value.Internet && r.rewrite(reflect.ValueOf(&value.Party).Elem(), in)
	case *[]string:
		return in != nil && in.of == r.of.Kind && r.names(value)
	}
	switch v.Kind() {
	case reflect.String:
		if in == nil || in.of != r.of.Kind || v.String() != r.of.Name {
			return false
		}
		v.SetString(r.to) // nothing, where it is taken out
		return r.drop && (in.required || in.vital)
	case reflect.Array:
		for i := range v.Len() {
			gone = r.rewrite(v.Index(i), in) || gone
		}
	case reflect.Slice:
		return r.items(v, in)
	case reflect.Struct:
		for _, f := range fieldsOf(v.Type()) {
			whole := v.Type() != reflect.TypeFor[estate.Group]() || f.vital // what a group lists adds up: one list fewer is none missing
			gone = r.rewrite(v.FieldByIndex(f.index), &f) && whole || gone
		}
	}
	return gone
}

// items rewrites the items of a list, and reports whether none is left of one that has to
// have some.
func (r *rewriting) items(v reflect.Value, in *field) bool {
	switch v.Type().Elem().Kind() {
	case reflect.Struct, reflect.String:
	default:
		return false
	}
	kept := reflect.MakeSlice(v.Type(), 0, v.Len())
	for i := range v.Len() {
		if !r.rewrite(v.Index(i), in) {
			kept = reflect.Append(kept, v.Index(i))
		}
	}
	if kept.Len() == v.Len() {
		return false
	}
	v.Set(kept)
	return kept.Len() == 0 && in != nil && in.required
}

// names rewrites a list of names, and reports whether none is left.
func (r *rewriting) names(list *[]string) bool {
	if !slices.Contains(*list, r.of.Name) {
		return false
	}
	if r.drop {
		*list = slices.DeleteFunc(*list, func(s string) bool { return s == r.of.Name })
		return len(*list) == 0
	}
	for i, name := range *list {
		if name == r.of.Name {
			(*list)[i] = r.to
		}
	}
	return false
}

// copied returns a list of its own with the same things.
func copied(list reflect.Value) reflect.Value {
	out := reflect.MakeSlice(list.Type(), list.Len(), list.Len())
	reflect.Copy(out, list)
	return out
}

// deepCopy returns a settable copy of a thing that shares no list with it.
func deepCopy(v reflect.Value) reflect.Value {
	out := reflect.New(v.Type()).Elem()
	out.Set(v)
	unshare(out)
	return out
}

func unshare(v reflect.Value) {
	switch v.Kind() {
	case reflect.Slice:
		if v.IsNil() {
			return
		}
		v.Set(copied(v))
		for i := range v.Len() {
			unshare(v.Index(i))
		}
	case reflect.Array:
		for i := range v.Len() {
			unshare(v.Index(i))
		}
	case reflect.Struct:
		for i := range v.NumField() {
			if v.Field(i).CanSet() {
				unshare(v.Field(i))
			}
		}
	}
}

// KindOfThing returns the kind of a thing of package estate, "" for none.
func KindOfThing(thing reflect.Value) estate.Kind {
	e := &estate.Estate{}
	for _, kind := range Kinds() {
		if Things(e, kind).Type().Elem() == thing.Type() {
			return kind
		}
	}
	return ""
}

// Replace puts a thing at a place of a list of an estate, which is copied first.
func Replace(list reflect.Value, at int, thing reflect.Value) {
	list.Set(copied(list))
	list.Index(at).Set(thing)
}

// PutThing puts a thing into e, in place of the one of its kind and name if there is one. The
// list is copied first.
func PutThing(e *estate.Estate, kind estate.Kind, thing reflect.Value) {
	list := Things(e, kind)
	list.Set(copied(list))
	for i := range list.Len() {
		if keyOf(list.Index(i)) == keyOf(thing) {
			list.Index(i).Set(thing)
			return
		}
	}
	list.Set(reflect.Append(list, thing))
}

// RemoveThing takes a thing out of e. The list is copied first.
func RemoveThing(e *estate.Estate, ref estate.Ref) {
	list := Things(e, ref.Kind)
	kept := reflect.MakeSlice(list.Type(), 0, list.Len())
	for i := range list.Len() {
		if keyOf(list.Index(i)) != ref.Name {
			kept = reflect.Append(kept, list.Index(i))
		}
	}
	list.Set(kept)
}
