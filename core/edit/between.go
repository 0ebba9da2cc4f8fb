package edit

import (
	"bivium/core/document"
	"bivium/core/estate"
)

// Between returns the operations that lead from one estate to another, whole objects on their
// bases; what goes is deleted last, referrers first. What an estate says of itself, its name
// and description, is no object, and is left out. Cost: the lists that differ, and all names of
// both estates where something goes.
func Between(e, next *estate.Estate) []Operation {
	var out []Operation
	var gone []estate.Ref
	f := newFinder(e)
	for _, c := range document.Changes(e, next, nil) {
		ref := estate.Ref{Kind: document.KindOf(c.List), Name: c.Key}
		switch {
		case c.Moved():
		case c.After == nil:
			gone = append(gone, ref)
		default:
			out = append(out, f.putOf(ref, c.After))
		}
	}
	for _, ref := range referrersFirst(e, gone) {
		out = append(out, f.deleteOf(ref))
	}
	return out
}
