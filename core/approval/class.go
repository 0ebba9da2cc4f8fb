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

// Known is some classes of change, indexed by what a class that lies in one has in common with it.
type Known map[kindOfChange][]Class

// kindOfChange is what is the same in a class and in each that it lies in.
type kindOfChange struct{ from, to, was, is string }

func (c *Class) kind() kindOfChange { return kindOfChange{c.From, c.To, c.Was, c.Is} }

// Index returns some classes as they are asked for by Has.
func Index(classes []Class) Known {
	out := Known{}
	for i := range classes {
		out[classes[i].kind()] = append(out[classes[i].kind()], classes[i])
	}
	return out
}

// Has reports whether a class lies in one of those known: no flow changes in it that does not
// change in the same way there. It may miss that where it takes several of them together.
// Cost: the known classes between the same segments and outcomes.
func (k Known) Has(c *Class) bool {
	return slices.ContainsFunc(k[c.kind()], func(o Class) bool {
		if !within(c.Sources, o.Sources) || !within(c.Destinations, o.Destinations) {
			return false
		}
		if slices.Equal(c.Services, o.Services) {
			return true
		}
		mine := space.Of(c.Services)
		return mine.Intersect(space.Of(o.Services)).Equal(mine)
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

// changesOf returns the flows of a difference whose intended verdict or outcome changes and
// that are of concern, by blocks of endpoints. Addresses that come or go, and that nobody
// reached or reaches, do not count.
func changesOf(d *difference.Difference, imagined bool, concerns func(*Change) bool) []Change {
	var out []Change
	for i := range d.Changes {
		c := &d.Changes[i]
		was, is := outcomeOf(c.Before), outcomeOf(c.After)
		if was == is || deadEnd(c.Before, c.After) || deadEnd(c.After, c.Before) {
			continue
		}
		change := Change{Class: Class{From: nodeName(c.From), To: nodeName(c.To), Was: was, Is: is}, Before: c.Before, After: c.After, Imagined: imagined}
		if !concerns(&change) {
			continue
		}
		change.Services = c.Services.Boxes()
		for _, b := range d.Blocks(c) {
			change.Sources, change.Destinations, change.Witness = wordsOf(&b.From), wordsOf(&b.To), b.Witness()
			out = append(out, change)
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
