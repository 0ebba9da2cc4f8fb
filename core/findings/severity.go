package findings

// Severity is how much a finding matters.
type Severity string

// The severities: flows are open that should not be; something does not work, or is not
// clear; what to tidy up.
const (
	High   Severity = "high"
	Medium Severity = "medium"
	Low    Severity = "low"
)

// Severity returns how much findings of a code matter.
func (c FindingCode) Severity() Severity {
	switch c {
	case RailNotEnforced, Bypass, Unenforced, FailedOpen:
		return High
	case UnreachedRule, EmptySide, SameMembers, LearnedWaits, RanOut, RunsOut:
		return Low
	}
	return Medium
}
