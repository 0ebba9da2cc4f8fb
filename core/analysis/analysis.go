// Package analysis puts together everything that is worked out of one estate, and carries it
// over an edit: the matrix of all flows, how expectations come out, and the findings. It is
// what the application and the commands begin with. Its tests hold the whole core to the
// slow evaluator of core/testing/oracle, on drawn estates and drawn rows of edits.
package analysis

import (
	"bivium/core/difference"
	"bivium/core/estate"
	"bivium/core/expectation"
	"bivium/core/findings"
	"bivium/core/matrix"
	"bivium/core/recompile"
	"bivium/core/revise"
	"bivium/core/verdict"
)

// Analysis is everything that is worked out of one estate: what happens to all of its flows,
// how its expectations come out, and what is probably wrong. It never changes, and is safe for
// concurrent use; expectations and findings are worked out when they are first asked for.
type Analysis struct {
	*matrix.Matrix
	Expectations *expectation.Book
	Findings     *findings.Book
}

// New returns the analysis of the estate of a judge. Cost: that of its matrix.
func New(j *verdict.Judge) *Analysis { return ofMatrix(matrix.New(j)) }

func ofMatrix(s *matrix.Matrix) *Analysis {
	return &Analysis{Matrix: s, Expectations: expectation.NewBook(s), Findings: findings.NewBook(s)}
}

// Revise returns the analysis of e, an edit of the estate of a, and which flows have another
// verdict. It shares with a what the edit does not touch. Cost: see Matrix.Revise.
func (a *Analysis) Revise(e *estate.Estate) (*Analysis, difference.Difference) {
	j, r := recompile.Revise(a.Matrix.Judge, e)
	return a.Follow(j, &r)
}

// Follow is Revise where the judge of a has been revised already, as r tells.
func (a *Analysis) Follow(j *verdict.Judge, r *recompile.Revision) (*Analysis, difference.Difference) {
	e := revise.Revise(a.Matrix, j, r)
	if e == nil {
		// Who is in a group may differ too: what is expected of its flows is another
		// question then, though none of them changes.
		next := New(j)
		return next, difference.Compare(a.Matrix, next.Matrix)
	}
	d := difference.Compare(e.Before, e.After)
	return &Analysis{Matrix: e.Matrix, Expectations: a.Expectations.After(e.Matrix, &d), Findings: a.Findings.After(e)}, d
}
