package edit

import (
	"slices"

	"bivium/core/document"
	"bivium/core/estate"
)

// Along is what has to change or go so that a thing can be deleted (C1.4).
type Along struct {
	Changed []estate.Ref // without the name
	Gone    []estate.Ref // with it: what is left of them would mean nothing, or more than before
	Edit    *Edit        // that does all of it, the deletion last
}

// alongWith returns what has to change or go along with a thing of e. What goes may have been
// referred to itself: that is followed to its end. Cost: for each thing that goes, all names
// of its kind in e.
func alongWith(e *estate.Estate, of estate.Ref) *Along {
	next := *e
	out := &Along{Edit: &Edit{}}
	changed := map[estate.Ref]bool{}
	gone := map[estate.Ref]bool{of: true}
	queue := []estate.Ref{of}
	var order []estate.Ref
	for len(queue) > 0 {
		ref := queue[0]
		queue = queue[1:]
		order = append(order, ref)
		r := document.WithoutReferences(&next, ref)
		for _, thing := range r.Changed {
			kind := document.KindOfThing(thing)
			list := document.Things(&next, kind)
			at := index(list, document.NameOf(thing))
			document.Replace(list, at, thing)
			changed[estate.Ref{Kind: kind, Name: document.NameOf(thing)}] = true
		}
		for _, g := range r.Gone {
			if !gone[g] {
				gone[g] = true
				queue = append(queue, g)
			}
		}
	}
	for _, kind := range document.Kinds() {
		list := document.Things(&next, kind)
		for i := range list.Len() {
			ref := estate.Ref{Kind: kind, Name: document.NameOf(list.Index(i))}
			if !changed[ref] || gone[ref] {
				continue
			}
			out.Changed = append(out.Changed, ref)
			out.Edit.Operations = append(out.Edit.Operations, PutOf(e, ref, document.Body(list.Index(i))))
		}
	}
	for _, ref := range referrersFirst(e, order) {
		if ref != of {
			out.Gone = append(out.Gone, ref)
		}
		out.Edit.Operations = append(out.Edit.Operations, DeleteOf(e, ref))
	}
	return out
}

// referrersFirst returns some things of e in an order in which they can be deleted.
func referrersFirst(e *estate.Estate, things []estate.Ref) []estate.Ref {
	by := map[estate.Ref][]estate.Ref{}
	if len(things) < many {
		for _, ref := range things {
			by[ref] = document.Referrers(e, ref)
		}
	} else {
		by = document.AllReferrers(e)
	}
	wanted, placed := make(map[estate.Ref]bool, len(things)), make(map[estate.Ref]bool, len(things))
	for _, ref := range things {
		wanted[ref] = true
	}
	var out []estate.Ref
	waits := func(ref estate.Ref) bool {
		return slices.ContainsFunc(by[ref], func(r estate.Ref) bool { return r != ref && wanted[r] && !placed[r] })
	}
	for len(out) < len(things) {
		n := len(out)
		for _, ref := range things {
			if !placed[ref] && !waits(ref) {
				placed[ref] = true
				out = append(out, ref)
			}
		}
		if len(out) == n { // a circle of groups, which is a fault of its own
			return append(out, slices.DeleteFunc(slices.Clone(things), func(r estate.Ref) bool { return placed[r] })...)
		}
	}
	return out
}

// PutOf returns the operation that makes a thing of e what body says as JSON, on its base.
func PutOf(e *estate.Estate, ref estate.Ref, body []byte) Operation {
	return newFinder(e).putOf(ref, body)
}

func (f *finder) putOf(ref estate.Ref, body []byte) Operation {
	value, err := document.ValueOf(body)
	if err != nil {
		panic("edit: an object of the estate has no readable form: " + err.Error())
	}
	return Operation{Op: Put, Kind: ref.Kind, Object: value, Base: f.baseOf(ref)}
}

// DeleteOf returns the operation that deletes a thing of e, on its base.
func DeleteOf(e *estate.Estate, ref estate.Ref) Operation { return newFinder(e).deleteOf(ref) }

func (f *finder) deleteOf(ref estate.Ref) Operation {
	return Operation{Op: Delete, Kind: ref.Kind, Name: ref.Name, Base: f.baseOf(ref)}
}

// BaseOf returns the base of a thing of e, Absent where there is none.
func BaseOf(e *estate.Estate, ref estate.Ref) string { return newFinder(e).baseOf(ref) }

func (f *finder) baseOf(ref estate.Ref) string {
	if at := f.find(ref); at >= 0 {
		return document.Base(document.Things(f.e, ref.Kind).Index(at))
	}
	return Absent
}
