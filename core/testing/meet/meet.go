// Package meet runs properties of drawn things until they have met what they are
// about: a property that holds because nothing of its kind was ever drawn says
// nothing, and one that counts what it met in a single run fails now and then by
// chance alone.
package meet

import (
	"maps"
	"slices"
	"testing"

	"pgregory.net/rapid"
)

// Wants is how often each thing must come up, at least.
type Wants map[string]int

// Often returns wants of all of some things, as often each.
func Often[S ~string](least int, all ...S) Wants {
	w := Wants{}
	for _, what := range all {
		w[string(what)] = least
	}
	return w
}

// Met is how often each thing came up.
type Met map[string]int

// If counts a thing that came up, if it did.
func (m Met) If(yes bool, what string) {
	if yes {
		m[what]++
	}
}

// rounds is how often a property is run at most. What one run in two meets is
// missed by all of them once in a million times.
const rounds = 20

// Check runs a property, and again with other draws while something is wanted. The
// test fails if the property does, or if something still is.
func Check(t *testing.T, wants Wants, property func(*rapid.T, Met)) {
	t.Helper()
	met := Met{}
	missing := func(what string) bool { return met[what] < wants[what] }
	for range rounds {
		rapid.Check(t, func(rt *rapid.T) { property(rt, met) })
		if t.Failed() || !slices.ContainsFunc(slices.Collect(maps.Keys(wants)), missing) {
			return
		}
	}
	for what, least := range wants {
		if missing(what) {
			t.Errorf("drawn %d times, and %q came up %d times, asked %d; all that did: %v", rounds, what, met[what], least, met)
		}
	}
}
