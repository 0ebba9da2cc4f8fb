package app

import (
	"errors"

	"bivium/core/estate"
	"bivium/internal/app/view"
)

// Members returns the workloads that a selector of labels would take, of all
// there are: the first of them, and how many there are.
func Members(s *view.Snapshot, selector string) (some []string, count int, err error) {
	parsed, err := estate.ParseSelector(selector)
	if err != nil {
		p := &view.Problem{At: "match", Message: err.Error(), Fix: "write key=value, key in (a, b), key or !key, separated by commas"}
		var slip *estate.SelectorError
		if errors.As(err, &slip) {
			p.Character = slip.Character
		}
		return nil, 0, p
	}
	some = []string{}
	for i := range s.Estate.Workloads {
		if w := &s.Estate.Workloads[i]; parsed.Matches(w.Labels) {
			if count++; len(some) < 4*view.MaxNamed {
				some = append(some, w.Name)
			}
		}
	}
	return some, count, nil
}
