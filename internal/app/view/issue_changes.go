package view

import "slices"

// IssueChanges is the findings that come and go between two states of an estate, those that matter
// most first.
type IssueChanges struct {
	New      []IssueChange `json:"new"`
	Gone     []IssueChange `json:"gone"`
	NewMore  int           `json:"newMore"` // how many there are beside those
	GoneMore int           `json:"goneMore"`
	Before   int           `json:"before"` // findings in all
	After    int           `json:"after"`
}

// IssueChange is a finding that comes or goes.
type IssueChange struct {
	Severity string `json:"severity"`
	Issue    Issue  `json:"issue"`
}

// mostIssueChanges is how many findings that come, and that go, are told one by one.
const mostIssueChanges = 25

// IssuesSince returns the findings that there are and were not in an earlier state, and those that
// were. Cost: all findings of both states, where they are not known yet.
func (s *Snapshot) IssuesSince(was *Snapshot) *IssueChanges {
	before, after := was.Issues().Findings, s.Issues().Findings
	out := &IssueChanges{Before: len(before), After: len(after)}
	out.New, out.NewMore = onlyThere(after, before)
	out.Gone, out.GoneMore = onlyThere(before, after)
	return out
}

// onlyThere returns the findings of a list that another has not.
func onlyThere(list, other []Issue) (found []IssueChange, more int) {
	known := make(map[string]bool, len(other))
	for i := range other {
		known[other[i].Key] = true
	}
	found = []IssueChange{}
	for i := range list {
		if !known[list[i].Key] {
			found = append(found, IssueChange{severityOf(list[i].Code), list[i]})
		}
	}
	slices.SortStableFunc(found, func(a, b IssueChange) int {
		return slices.Index(severities, a.Severity) - slices.Index(severities, b.Severity)
	})
	if more = len(found) - mostIssueChanges; more > 0 {
		return found[:mostIssueChanges], more
	}
	return found, 0
}
