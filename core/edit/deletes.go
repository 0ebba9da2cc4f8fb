package edit

import (
	"reflect"
	"slices"

	"bivium/core/document"
	"bivium/core/estate"
)

// many is from how many deletions in a row on they are made together.
const many = 8

// deletions returns how many deletions the operations begin with.
func deletions(operations []Operation) int {
	if n := slices.IndexFunc(operations, func(o Operation) bool { return o.Op != Delete }); n >= 0 {
		return n
	}
	return len(operations)
}

// deleteAll makes deletions in a row, as one after the other would: who refers to whom is
// looked up once, and each list is cut once. One that is not plainly possible is made alone,
// for it to say what is wrong. from is the place of the first among the operations.
func (b *builder) deleteAll(from int, operations []Operation) error {
	referrers := document.AllReferrers(b.result.Estate)
	gone := map[estate.Ref]bool{}
	for i := range operations {
		b.at, b.op = from+i, &operations[i]
		ref := estate.Ref{Kind: b.op.Kind, Name: b.op.Name}
		at := b.find.find(ref)
		if at >= 0 && !gone[ref] &&
			b.check(document.Things(b.result.Estate, ref.Kind), ref.Name, at) == nil &&
			!slices.ContainsFunc(referrers[ref], func(by estate.Ref) bool { return by != ref && !gone[by] }) {
			gone[ref] = true
			continue
		}
		b.drop(gone)
		clear(gone)
		if err := b.make(); err != nil {
			return err
		}
	}
	b.drop(gone)
	return nil
}

// drop takes things out of their lists.
func (b *builder) drop(gone map[estate.Ref]bool) {
	kinds := map[estate.Kind]bool{}
	for ref := range gone {
		kinds[ref.Kind] = true
	}
	for kind := range kinds {
		list := document.Things(b.result.Estate, kind)
		left := reflect.MakeSlice(list.Type(), 0, list.Len())
		for i := range list.Len() {
			if thing := list.Index(i); !gone[estate.Ref{Kind: kind, Name: document.NameOf(thing)}] {
				left = reflect.Append(left, thing)
			}
		}
		list.Set(left)
		b.own[kind] = true
		b.find.forget(kind)
	}
}
