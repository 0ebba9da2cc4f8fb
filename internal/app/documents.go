package app

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"bivium/core/document"
	"bivium/core/edit"
	"bivium/core/estate"
	"bivium/core/inventory"
	"bivium/internal/app/consequence"
	"bivium/internal/app/view"
	"bivium/internal/store"
	"bivium/internal/wording"
)

// Import is what a document would change, or has changed.
type Import struct {
	Revision int64                    `json:"revision"`
	Name     string                   `json:"name"`
	Counts   map[string][3]int        `json:"counts"` // by list: new, changed and gone things
	Changes  []inventory.Change       `json:"changes"`
	Faults   []wording.DescribedFault `json:"faults"`
	Effect   *consequence.Effect      `json:"effect"`
}

// TryImport returns what would change if a document took the place of the
// estate; errors of the document are Problems, each with its line.
// Work stops at the next stage once ctx ends.
func TryImport(s *view.Snapshot, ctx context.Context, text []byte) (*Import, error) {
	p, err := s.Tried(view.KeyOfPlan("import", text), func() (*estate.Estate, error) {
		e, err := readDocument(s, text)
		return e, errors.Join(err, ctx.Err())
	})
	if err = errors.Join(err, ctx.Err()); err != nil {
		return nil, err
	}
	after := s.After(p, s.Revision, s.Known)
	return imported(s, after, consequence.EffectOf(s, after, &p.Changed, consequence.MaxFlows)), nil
}

// mostImported is how many things of a document may be others in a draft.
const mostImported = 20_000

// EditOf returns the edit that makes the estate of a snapshot what a document says.
func EditOf(s *view.Snapshot, text []byte) (*Edit, error) {
	e, err := readDocument(s, text)
	if err != nil {
		return nil, err
	}
	n := 0
	for _, c := range document.Changes(s.Estate, e, nil) {
		if !c.Moved() {
			n++
		}
	}
	if n > mostImported {
		return nil, &view.Problem{At: "document", Message: fmt.Sprintf("the document changes %d objects; a draft takes at most %d at once", n, mostImported), Fix: "import it in parts"}
	}
	return &Edit{Edit: edit.Edit{Operations: edit.Between(s.Estate, e)}, Seen: s.Revision}, nil
}

// readDocument returns the estate of a document, with the lists that say what those of s
// say shared with it, or its errors as Problems.
func readDocument(s *view.Snapshot, text []byte) (*estate.Estate, error) {
	e, err := document.Read(text)
	var unreadable document.Errors
	if errors.As(err, &unreadable) {
		var problems view.Problems
		for _, x := range unreadable[:min(len(unreadable), view.MaxThings)] {
			problems = append(problems, view.Problem{At: fmt.Sprintf("line %d, %s", x.Line, x.Path), Message: x.Message, Fix: x.Fix})
		}
		return nil, problems
	}
	if err != nil {
		return nil, &view.Problem{At: "document", Message: err.Error(), Fix: ""}
	}
	if len(e.Mappings) == 0 { // documents of others have none, and labels that tags gave would go with it
		e.Mappings = s.Estate.Mappings
	}
	return estate.AsOf(document.Shared(s.Estate, e), s.Estate.Day), nil
}

// imported tells what is different in an estate that takes the place of that of s.
func imported(s *view.Snapshot, after *view.Snapshot, effect *consequence.Effect) *Import {
	e := after.Estate
	out := &Import{Revision: after.Revision, Name: e.Name, Counts: map[string][3]int{}, Changes: []inventory.Change{}, Faults: wording.Faults(after.Faults), Effect: effect}
	was, is := document.Differing(s.Estate, e)
	differing(document.Split(was), document.Split(is), func(c inventory.Change) {
		counts := out.Counts[string(c.Kind)]
		counts[slices.Index([]inventory.What{inventory.New, inventory.Changed, inventory.Gone}, c.What)]++
		out.Counts[string(c.Kind)] = counts
		if len(out.Changes) < maxChanges {
			out.Changes = append(out.Changes, c)
		}
	})
	return out
}

// differing calls f for each of some things that came, went, or is another than before.
func differing(was, is []document.Object, f func(inventory.Change)) {
	before := map[[2]string]string{}
	for _, o := range was {
		before[[2]string{o.List, o.Key}] = string(o.Body)
	}
	for _, o := range is {
		key := [2]string{o.List, o.Key}
		body, there := before[key]
		delete(before, key)
		switch {
		case !there:
			f(inventory.Change{Kind: inventory.Kind(o.List), Name: o.Key, What: inventory.New})
		case body != string(o.Body):
			f(inventory.Change{Kind: inventory.Kind(o.List), Name: o.Key, What: inventory.Changed})
		}
	}
	for key := range before {
		f(inventory.Change{Kind: inventory.Kind(key[0]), Name: key[1], What: inventory.Gone})
	}
}

// Import puts a document in the place of the estate, if that is still at
// revision based.
func (a *App) Import(ctx context.Context, text []byte, based int64, actor string) (*Import, error) {
	key := view.KeyOfPlan("import", text)
	var e *estate.Estate
	if now := a.Now(); now.Plans.Find(key) == nil { // it was not tried: read it before others have to wait
		read, err := readDocument(now, text)
		if err != nil {
			return nil, err
		}
		e = read
	}
	var out *Import
	err := a.advance(ctx, &step{
		what: store.Edit, actor: actor, based: based, key: key,
		plan: leadsTo(func(now *view.Snapshot) (*estate.Estate, error) {
			if e == nil { // the estate has changed since it was tried
				return readDocument(now, text)
			}
			return e, nil
		}),
		then: func(before, after *view.Snapshot, p *view.Plan) error {
			out = imported(before, after, consequence.EffectOf(before, after, &p.Changed, consequence.MaxFlows))
			return nil
		},
	})
	return out, err
}

// Export returns the estate as a document.
func Export(s *view.Snapshot) ([]byte, error) { return document.Write(s.Estate) }
