package app

import (
	"context"
	"errors"
	"fmt"

	"bivium/core/document"
	"bivium/core/estate"
	"bivium/core/inventory"
)

// Import is what a document would change, or has changed.
type Import struct {
	Revision int64              `json:"revision"`
	Name     string             `json:"name"`
	Counts   map[string][3]int  `json:"counts"` // by list: new, changed and gone things
	Changes  []inventory.Change `json:"changes"`
	Faults   []estate.Fault     `json:"faults"`
	Effect   *Effect            `json:"effect"`
}

// TryImport returns what would change if a document took the place of the
// estate; errors of the document are Problems, each with its line.
func (s *Snapshot) TryImport(text []byte) (*Import, error) {
	e, err := s.readDocument(text)
	if err != nil {
		return nil, err
	}
	after, d := s.following(e, s.Revision, s.Known, s.Mapping)
	return s.imported(after, s.effect(after, &d, maxFlows)), nil
}

// readDocument returns the estate of a document, with the lists that say what those of s
// say shared with it, or its errors as Problems.
func (s *Snapshot) readDocument(text []byte) (*estate.Estate, error) {
	e, err := document.Read(text)
	var unreadable document.Errors
	if errors.As(err, &unreadable) {
		var problems Problems
		for _, x := range unreadable[:min(len(unreadable), maxThings)] {
			problems = append(problems, Problem{fmt.Sprintf("line %d, %s", x.Line, x.Path), x.Message, x.Fix})
		}
		return nil, problems
	}
	if err != nil {
		return nil, &Problem{"document", err.Error(), ""}
	}
	return document.Shared(s.Estate, e), nil
}

// imported tells what is different in an estate that takes the place of that of s.
func (s *Snapshot) imported(after *Snapshot, effect *Effect) *Import {
	e := after.Estate
	out := &Import{Revision: after.Revision, Name: e.Name, Counts: map[string][3]int{}, Changes: []inventory.Change{}, Faults: append([]estate.Fault{}, after.Faults...), Effect: effect}
	before := map[[2]string]string{}
	was, is := document.Differing(s.Estate, e)
	for _, o := range named(was) {
		before[[2]string{o.List, o.Key}] = string(o.Body)
	}
	note := func(list, key string, what inventory.What, n int) {
		counts := out.Counts[list]
		counts[n]++
		out.Counts[list] = counts
		if len(out.Changes) < maxChanges {
			out.Changes = append(out.Changes, inventory.Change{Kind: inventory.Kind(list), Name: key, What: what})
		}
	}
	for _, o := range named(is) {
		key := [2]string{o.List, o.Key}
		was, there := before[key]
		delete(before, key)
		switch {
		case !there:
			note(o.List, o.Key, inventory.New, 0)
		case was != string(o.Body):
			note(o.List, o.Key, inventory.Changed, 1)
		}
	}
	for key := range before {
		note(key[0], key[1], inventory.Gone, 2)
	}
	return out
}

// named returns the things of an estate, those without a name by what they
// connect: their place in the list says nothing of them.
func named(e *estate.Estate) []document.Object {
	objects := document.Split(e)
	had := map[[2]string]int{}
	at := map[string]int{}
	for i := range objects {
		o := &objects[i]
		n := at[o.List]
		at[o.List]++
		switch o.List {
		case "links":
			o.Key = e.Links[n].Between[0] + "-" + e.Links[n].Between[1]
		case "attachments":
			o.Key = e.Attachments[n].Network + "@" + e.Attachments[n].Hub
		case "peerings":
			o.Key = e.Peerings[n].Between[0] + "-" + e.Peerings[n].Between[1]
		}
		key := [2]string{o.List, o.Key}
		if had[key]++; had[key] > 1 {
			o.Key = fmt.Sprintf("%s, %d", o.Key, had[key])
		}
	}
	return objects
}

// Import puts a document in the place of the estate, if that is still at
// revision based.
func (a *App) Import(ctx context.Context, text []byte, based int64, actor string) (*Import, error) {
	e, err := a.Now().readDocument(text)
	if err != nil {
		return nil, err
	}
	before, after, effect, err := a.amend(ctx, based, actor, func(next *estate.Estate) error {
		*next = *e
		return nil
	})
	if err != nil {
		return nil, err
	}
	return before.imported(after, effect), nil
}

// Export returns the estate as a document.
func (s *Snapshot) Export() ([]byte, error) { return document.Write(s.Estate) }
