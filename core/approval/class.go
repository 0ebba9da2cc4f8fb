package approval

import (
	"slices"
	"strings"

	"bivium/core/difference"
	"bivium/core/matrix"
	"bivium/core/space"
	"bivium/core/verdict"
)

// Class is a class of change (C2.4): flows between some endpoints on some services, from one
// outcome to another.
type Class struct {
	From         string      `json:"from"` // a segment, or "internet"
	To           string      `json:"to"`
	Sources      []string    `json:"sources"` // groups, networks and prefixes; "*" for all, "*-" before what is not meant
	Destinations []string    `json:"destinations"`
	Services     []space.Box `json:"services"` // as space.Services has them
	Was          string      `json:"was"`      // outcome, intended verdict and pools; "" where there were no such flows
	Is           string      `json:"is"`
}

// The words of endpoints that are not named one by one.
const (
	all    = "*"
	allBut = "*-"
)

// Classes returns the classes of some changes.
func Classes(changes []Change) []Class {
	out := make([]Class, len(changes))
	for i := range changes {
		out[i] = changes[i].Class
	}
	return out
}

// In reports whether a class lies in one of some others: no flow changes in it that does not
// change in the same way there. It may miss that where it takes several of them together.
func (c *Class) In(others []Class) bool {
	return slices.ContainsFunc(others, func(o Class) bool {
		if c.From != o.From || c.To != o.To || c.Was != o.Was || c.Is != o.Is {
			return false
		}
		mine, services := space.Of(c.Services), space.Of(o.Services)
		return within(c.Sources, o.Sources) && within(c.Destinations, o.Destinations) && mine.Intersect(services).Equal(mine)
	})
}

// within reports whether some endpoints are among others, by the words for them.
func within(words, others []string) bool {
	switch {
	case slices.Equal(words, others), slices.Contains(others, all):
		return true
	case slices.Contains(words, all), slices.Contains(words, allBut), slices.Contains(others, allBut):
		return false
	}
	return !slices.ContainsFunc(words, func(w string) bool { return !slices.Contains(others, w) })
}

// changesOf returns the flows of a difference whose intended verdict or outcome changes, by
// blocks of endpoints. Addresses that come or go, and that nobody reached or reaches, do not
// count.
func changesOf(d *difference.Difference, imagined bool) []Change {
	var out []Change
	for i := range d.Changes {
		c := &d.Changes[i]
		was, is := outcomeOf(c.Before), outcomeOf(c.After)
		if was == is || deadEnd(c.Before, c.After) || deadEnd(c.After, c.Before) {
			continue
		}
		for _, b := range d.Blocks(c) {
			out = append(out, Change{
				Class: Class{
					From: nodeName(c.From), To: nodeName(c.To), Sources: wordsOf(&b.From), Destinations: wordsOf(&b.To),
					Services: c.Services.Boxes(), Was: was, Is: is,
				},
				Before: c.Before, After: c.After, Witness: b.Witness(), Imagined: imagined,
			})
		}
	}
	return out
}

// deadEnd reports whether flows that are not there on one side reach nothing on the other, and
// are not meant to.
func deadEnd(absent, other *verdict.Verdict) bool {
	return absent == nil && other != nil && !delivered(other) && !intended(other)
}

// outcomeOf says what people ask for in a verdict: "inspected inspect watch".
func outcomeOf(v *verdict.Verdict) string {
	if v == nil {
		return ""
	}
	return strings.Join(append([]string{string(v.Outcome), string(v.Intended)}, v.Pools...), " ")
}

func nodeName(n matrix.Node) string {
	if n.Kind == matrix.NodeInternet {
		return "internet"
	}
	return n.Segment
}

func wordsOf(s *difference.Selection) []string {
	switch {
	case s.All:
		return []string{all}
	case s.AllBut:
		return append([]string{allBut}, s.Words()...)
	}
	return s.Words()
}
