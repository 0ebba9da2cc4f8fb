package app

import (
	"errors"
	"fmt"

	"bivium/core/edit"
	"bivium/core/wiring"
	"bivium/internal/app/view"
)

// Expand appends to an edit of a snapshot what short edits of the wiring stand for, made on
// what its operations leave: whole objects, each on its base.
func (a *App) Expand(s *view.Snapshot, x *Edit, short []wiring.Edit) error {
	if len(short) == 0 {
		return nil
	}
	e := s.Estate
	if len(x.Operations) > 0 {
		r, err := edit.Apply(e, &x.Edit, nil)
		if err != nil {
			return nil //nolint:nilerr // trying the edit tells why
		}
		e = r.Estate
	}
	next, err := wiring.Apply(e, short)
	var wrong *wiring.Error
	if errors.As(err, &wrong) {
		return view.Problems{{At: fmt.Sprintf("edits[%d].%s", wrong.At, wrong.Key), Message: wrong.Message, Fix: wrong.Fix}}
	}
	if err != nil {
		return err
	}
	x.Operations = append(x.Operations, edit.Between(e, next)...)
	return nil
}
