package app

import (
	"context"
	"fmt"
	"slices"

	"bivium/internal/store"
)

// Sheet returns everything about one thing, by its kind and name.
func (a *App) Sheet(ctx context.Context, kind, name string) (*Sheet, error) {
	s := a.Now()
	list, key, ok := s.locate(kind, name)
	if !ok {
		return nil, fmt.Errorf("%s %q: %w", kind, name, store.ErrNotFound)
	}
	out := &Sheet{Revision: s.Revision, Kind: kind, Name: name, Labels: map[string]string{}, Hand: map[string]string{}, Tags: map[string]string{}, Groups: []Named{}, Rules: []Thing{}, Uses: []Thing{}, Some: []string{}, Issues: []Issue{}, History: []store.Step{}}
	out.Document = string(key.Body)
	s.membership(out)
	for i := range s.Known {
		if k := &s.Known[i]; string(k.Kind) == kind && k.Name == name {
			out.Read, out.Hand, out.Tags = true, orEmpty(k.Hand), orEmpty(k.Tags)
		}
	}
	s.uses(out)
	if out.Counting = s.counted() == nil; out.Counting {
		a.want(s)
	} else {
		issues := s.Issues()
		for _, all := range [][]Issue{issues.Faults, issues.Findings} {
			for i := range all {
				if slices.Contains(all[i].Refs, Thing{kind, name}) {
					out.Issues = append(out.Issues, all[i])
				}
			}
		}
	}
	history, err := a.Store.History(ctx, list, key.Key, maxHistory)
	if err != nil {
		return nil, err
	}
	out.History = append(out.History, history...)
	return out, nil
}
