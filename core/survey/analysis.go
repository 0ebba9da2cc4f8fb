package survey

import (
	"bivium/core/estate"
	"bivium/core/verdict"
)

// Analysis is everything that is worked out of one estate: what happens to all of its flows,
// how its expectations fare, and what is probably wrong. It never changes, and is safe for
// concurrent use; expectations and findings are worked out when they are first asked for.
type Analysis struct {
	*Survey
	Expectations *expectationBook
	Findings     *Book
}

// NewAnalysis returns the analysis of the estate of a judge. Cost: that of its survey.
func NewAnalysis(j *verdict.Judge) *Analysis { return ofSurvey(New(j)) }

func ofSurvey(s *Survey) *Analysis {
	return &Analysis{Survey: s, Expectations: NewExpectationBook(s), Findings: NewBook(s)}
}

// Revise returns the analysis of e, an edit of the estate of a, and which flows have another
// verdict. It shares with a what the edit does not touch. Cost: see Survey.Revise.
func (a *Analysis) Revise(e *estate.Estate) (*Analysis, Difference) {
	j, r := a.Survey.judge.Revise(e)
	return a.Follow(j, &r)
}

// Follow is Revise where the judge of a has been revised already, as r tells.
func (a *Analysis) Follow(j *verdict.Judge, r *verdict.Revision) (*Analysis, Difference) {
	e := a.Survey.Revise(j, r)
	if e == nil {
		// Who is in a group may differ too: what is expected of its flows is another
		// question then, though none of them fares differently.
		next := NewAnalysis(j)
		return next, Compare(a.Survey, next.Survey)
	}
	d := Compare(e.Before, e.After)
	return &Analysis{Survey: e.Survey, Expectations: a.Expectations.After(e.Survey, &d), Findings: a.Findings.After(e)}, d
}
