package analysis

import (
	"fmt"
	"net/netip"
	"slices"
	"testing"

	"pgregory.net/rapid"

	"bivium/core/difference"
	"bivium/core/estate"
	"bivium/core/failure"
	"bivium/core/findings"
	"bivium/core/lists"
	"bivium/core/matrix"
	"bivium/core/testing/meet"
	"bivium/core/verdict"
)

// editPlace returns a copy of e in which one network is placed otherwise, the
// rest shared.
func editPlace(t *rapid.T, e *estate.Estate) *estate.Estate {
	next := *e
	k := rapid.IntRange(0, len(e.Networks)-1).Draw(t, "network")
	n := e.Networks[k]
	mine := func(a estate.Attachment) bool { return a.Network == n.Name }
	at := slices.IndexFunc(e.Attachments, mine)
	kind := rapid.IntRange(0, 9).Draw(t, "kind")
	if kind > 7 {
		return editLinks(t, e)
	}
	if at < 0 && kind > 1 {
		kind = 1
	}
	if kind > 0 {
		next.Attachments = slices.Clone(e.Attachments)
	}
	switch kind {
	case 0:
		next.Networks = slices.Clone(e.Networks)
		n.Subnets = slices.Clone(n.Subnets)
		s := &n.Subnets[rapid.IntRange(0, len(n.Subnets)-1).Draw(t, "subnet")]
		s.Segment = rapid.SampledFrom(e.Segments).Draw(t, "segment").Name
		next.Networks[k] = n
	case 1:
		hub := rapid.SampledFrom(e.Hubs).Draw(t, "hub").Name
		next.Attachments = append(next.Attachments, estate.Attachment{Network: n.Name, Hub: hub, Cost: rapid.IntRange(0, 9).Draw(t, "cost"), State: "up"})
	case 2:
		next.Attachments[at].State = map[string]string{"up": "down", "down": "up"}[next.Attachments[at].State]
	case 3:
		next.Attachments[at].Cost += 7
	case 5, 6: // a prefix that it bears comes or goes
		a := &next.Attachments[at]
		if len(a.Static) > 0 && kind == 5 {
			a.Static = nil
			break
		}
		p := rapid.SampledFrom([]string{"10.250.0.0/24", "10.0.0.0/13", "172.20.0.0/14", "fd00:77::/64"}).Draw(t, "static")
		a.Static = append(slices.Clone(a.Static), estate.Static{Prefix: netip.MustParsePrefix(p), Segment: rapid.SampledFrom(e.Segments).Draw(t, "of").Name})
	case 7: // so does one that it learned
		a := &next.Attachments[at]
		a.Learned = slices.Clone(a.Learned)
		for i := range a.Learned {
			a.Learned[i].Status = map[string]string{"accepted": "waiting", "waiting": "accepted", "withdrawn": "accepted", "refused": "waiting"}[a.Learned[i].Status]
		}
	case 4:
		next.Attachments = slices.Delete(next.Attachments, at, at+1)
	}
	if len(estate.Check(&next)) > 0 {
		return e
	}
	return &next
}

// borne returns how many prefixes attachments lead to.
func borne(e *estate.Estate) (n int) {
	for i := range e.Attachments {
		n += len(e.Attachments[i].Static)
		for _, l := range e.Attachments[i].Learned {
			n += lists.OneIf(l.Status == "accepted")
		}
	}
	return n
}

// editLinks returns a copy of e in which two hubs are linked otherwise.
func editLinks(t *rapid.T, e *estate.Estate) *estate.Estate {
	next := *e
	next.Links = slices.Clone(e.Links)
	hubs := [2]string{rapid.SampledFrom(e.Hubs).Draw(t, "hub").Name, rapid.SampledFrom(e.Hubs).Draw(t, "far").Name}
	at := rapid.IntRange(0, max(0, len(e.Links)-1)).Draw(t, "link")
	switch kind := rapid.IntRange(0, 3).Draw(t, "change"); {
	case kind == 0 || len(e.Links) == 0:
		next.Links = append(next.Links, estate.Link{Between: hubs, Cost: rapid.IntRange(1, 30).Draw(t, "cost"), State: "up"})
	case kind == 1:
		next.Links[at].State = map[string]string{"up": "down", "down": "up"}[next.Links[at].State]
	case kind == 2:
		next.Links[at].Cost = rapid.IntRange(1, 30).Draw(t, "cost")
	default:
		next.Links = slices.Delete(next.Links, at, at+1)
	}
	if len(estate.Check(&next)) > 0 {
		return e
	}
	return &next
}

// TestPlacingIsWorkingOutAnew holds a row of edits of places, with edits of rules
// between them, against matrices anew.
func TestPlacingIsWorkingOutAnew(t *testing.T) {
	t.Parallel()
	meet.Check(t, meet.Wants{"an edit in place": 50, "an edit in place that changes flows": 30, "links": 30, "links that change flows": 10, "prefixes": 20}, func(t *rapid.T, met meet.Met) {
		e := expecting(drawValid(t))
		s := New(verdict.New(e))
		s.Expectations.All()
		for range 4 {
			next := editPlace(t, e)
			if rapid.IntRange(0, 3).Draw(t, "rules") == 0 {
				next = editPolicy(t, e)
			}
			revised, d := s.Revise(next)
			asFromTheGround(t, e, next, revised, &d)
			grafted := revised.Update != nil && revised.Update.Origin == s.ID
			linked := next != e && revised.ID == s.ID && revised.Net != s.Net
			met.If(linked, "links")
			met.If(linked && len(d.Changes) > 0, "links that change flows")
			met.If(grafted && len(next.Attachments) == len(e.Attachments) && borne(next) != borne(e), "prefixes")
			met.If(grafted, "an edit in place")
			met.If(grafted && len(d.Changes) > 0, "an edit in place that changes flows")
			e, s = next, revised
		}
	})
}

// markWords returns marks in an order of their own: those of as many flows come in
// that in which they were added up.
func markWords(marks []matrix.Mark) string {
	var out []string
	for _, m := range marks {
		out = append(out, fmt.Sprint(m))
	}
	slices.Sort(out)
	return fmt.Sprint(out)
}

func cellWords(d *difference.Difference, nodes []matrix.Node) []string {
	var out []string
	for _, c := range d.Cells(nodes) {
		out = append(out, fmt.Sprint(c.Row, c.Col, markWords(c.Before), markWords(c.After), c.Outcome))
	}
	return out
}

func findingWords(s *Analysis) []string {
	var out []string
	for _, f := range s.Findings.All(unpaced) {
		word := string(f.Code) // which networks show it, and how many do, may differ
		switch f.Code {
		case findings.EmptySide, findings.SameMembers, findings.Contested, findings.RailNotEnforced:
			word += fmt.Sprint(f.Refs)
		case findings.UnreachedRule:
			word += fmt.Sprint(f.Args) // which tells the rule
		}
		out = append(out, word)
	}
	slices.Sort(out)
	return slices.Compact(out)
}

func turnWords(s *Analysis) []string {
	var out []string
	for _, o := range failure.WhatIf(s.Matrix, s.Expectations.All(), failure.Outages(s.Matrix)) {
		for _, t := range o.Turns {
			out = append(out, fmt.Sprint(o.Outage, t.From, t.To, t.Before, t.After, t.Services.Words(), t.Pairs))
		}
	}
	slices.Sort(out)
	return out
}
