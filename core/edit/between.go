package edit

import (
	"bivium/core/document"
	"bivium/core/estate"
)

// Between returns the operations that lead from one estate to another, whole objects on their
// bases; what goes is deleted last, referrers first. What an estate says of itself, its name
// and description, is no object, and is left out. Cost: the lists that differ; for n things
// that go, their references n times.
func Between(e, next *estate.Estate) []Operation {
	var out []Operation
	var gone []estate.Ref
	for _, c := range document.Changes(e, next, nil) {
		ref := estate.Ref{Kind: document.KindOf(c.List), Name: c.Key}
		switch {
		case c.Moved():
		case c.After == nil:
			gone = append(gone, ref)
		default:
			out = append(out, PutOf(e, ref, c.After))
		}
	}
	for _, ref := range referrersFirst(e, gone) {
		out = append(out, DeleteOf(e, ref))
	}
	return out
}
