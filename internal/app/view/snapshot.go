// Package view tells what there is to see of an estate at one revision: answers, the board,
// lanes, routes, issues, sheets, the tree. A Snapshot never changes; nothing here writes.
package view

import (
	"slices"
	"strings"

	"bivium/core/analysis"
	"bivium/core/document"
	"bivium/core/estate"
	"bivium/core/findings"
	"bivium/core/inventory"
	"bivium/core/matrix"
	"bivium/core/verdict"
	"bivium/internal/store"
)

// Snapshot is an estate at one revision, with everything that follows from it.
// It never changes; a request loads it once and keeps it.
type Snapshot struct {
	Estate   *estate.Estate
	Revision int64
	Shown    int64 // its number among those that were shown: one revision may be shown twice, with other things beside the estate
	Faults   []estate.Fault
	Judge    *verdict.Judge
	Analysis *analysis.Analysis
	Matrix   *matrix.Matrix    // of the analysis
	Known    []inventory.Known // what accounts have, as it was last read
	Aside    []store.Aside     // things that could not be read when the database was opened
	Index    *nameIndex
	Tree     *Tree
	Members  *Members
	Later    *Later
	Plans    *Plans
}

// NewSnapshot returns an estate with everything that follows from it.
func NewSnapshot(e *estate.Estate, revision int64) *Snapshot {
	judge := verdict.New(e)
	a := analysis.New(judge)
	s := &Snapshot{Estate: e, Revision: revision, Faults: Faults(judge), Judge: judge, Analysis: a, Matrix: a.Matrix, Later: &Later{}, Tree: &Tree{}, Members: &Members{}, Plans: &Plans{}}
	s.Index = newNameIndex(s)
	s.Analysis.Expectations.All() // an edit then looks only at those that it touches
	return s
}

// lend gives a snapshot what it can take over of another, for what it comes of is the same,
// and else what is worked out anew.
func (s *Snapshot) lend(after *Snapshot) {
	same := func(lists ...string) bool { return document.SameLists(s.Estate, after.Estate, lists...) }
	after.Index, after.Tree, after.Members = s.Index, s.Tree, s.Members
	if !same("services", "groups", "segments", "networks", "workloads", "publications") {
		after.Index = newNameIndex(after)
	}
	if !same("accounts", "networks", "workloads") || !sameKnown(s.Known, after.Known) {
		after.Tree = &Tree{}
	}
	if !same("groups", "networks", "workloads") {
		after.Members = &Members{}
	}
}

func sameKnown(a, b []inventory.Known) bool {
	return len(a) == len(b) && (len(a) == 0 || &a[0] == &b[0])
}

// faultsAfter returns the faults of a snapshot that comes after this one: where policies
// alone are others, those that rules do not bear upon stay as they are.
func (s *Snapshot) faultsAfter(after *Snapshot) []estate.Fault {
	if !document.DifferInAlone(s.Estate, after.Estate, "policies") {
		return append(AsideFaults(s.Aside), Faults(after.Judge)...)
	}
	had := FaultKeys(estate.CheckRules(s.Estate))
	faults := slices.DeleteFunc(slices.Clone(s.Faults), func(f estate.Fault) bool { return had[f.Key()] })
	return append(faults, estate.CheckRules(after.Estate)...)
}

func FaultKeys(faults []estate.Fault) map[string]bool {
	keys := map[string]bool{}
	for i := range faults {
		keys[faults[i].Key()] = true
	}
	return keys
}

// Faults returns every fault of the estate (M9).
func Faults(j *verdict.Judge) []estate.Fault {
	return append(estate.Check(j.Estate), findings.ShareFaults(j)...)
}

// AsideFaults returns the faults that things are which were set aside.
func AsideFaults(list []store.Aside) []estate.Fault {
	var out []estate.Fault
	for i := range list {
		o := &list[i]
		out = append(out, estate.Fault{
			Code: unreadable, Path: o.List, Refs: []estate.Ref{{Kind: estate.Kind(strings.TrimSuffix(o.List, "s")), Name: o.Key}},
			Form: estate.Unreadable, Args: []string{o.List, o.Key, firstLine(o.Why)},
		})
	}
	return out
}

func firstLine(text string) string {
	line, _, _ := strings.Cut(text, "\n")
	return line
}

// unreadable is the code of the fault that a thing which was set aside is. It stands before
// those of the model.
const unreadable estate.Code = "F0"
