package plan

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"bivium/core/estate"
	"bivium/core/findings"
	"bivium/core/matrix"
	"bivium/core/native"
	"bivium/core/native/reader"
	"bivium/core/testing/draw"
	"bivium/core/testing/meet"
	"bivium/core/verdict"
)

func faultsOf(e *estate.Estate) []estate.Fault {
	return append(estate.Check(e), findings.ShareFaults(verdict.New(e))...)
}

// drawn is an estate, what it becomes by some edits, and the plan between what both ask of targets.
type drawn struct {
	before, after State
	a, b          *matrix.Matrix
	plan          *Plan
}

func draws(t *rapid.T) *drawn {
	e := draw.Faultless(t, faultsOf)
	next := e
	for range rapid.IntRange(1, 4).Draw(t, "edits") {
		if x, _ := draw.Edit(t, next); len(faultsOf(x)) == 0 {
			next = x
		}
	}
	d := &drawn{a: matrix.New(verdict.New(e)), b: matrix.New(verdict.New(next))}
	from, to := native.Translate(d.a), native.Translate(d.b)
	if len(from.Refused)+len(to.Refused) > 0 {
		return nil
	}
	d.before, d.after = State{Config: from.Config, Estate: e}, State{Config: to.Config, Estate: next}
	d.plan = Make(d.before, d.after, func(Key) bool { return true })
	return d
}

// TestNothingPassesOnTheWay carries out drawn plans in a drawn order that respects what waits for
// what, and sends packets after each write: what passes also passes before or after, through the
// pools of one of the two, unless the check said otherwise. At the end targets hold what they should.
func TestNothingPassesOnTheWay(t *testing.T) {
	wants := meet.Wants{"twice": 10, "move": 10, "packet changes": 30, "held back": 1, "ends": 1}
	meet.Check(t, wants, func(t *rapid.T, met meet.Met) {
		d := draws(t)
		if d == nil || len(d.plan.Writes) == 0 {
			return
		}
		checked := d.plan.Check(d.before, d.after, d.a, d.b)
		met.If(len(checked.Open) > 0, "told")
		met.If(len(checked.Cut) > 0, "cut")
		for i := range checked.Ends {
			e := &checked.Ends[i]
			first, last := reader.New(d.before.Estate, d.before.Config), reader.New(d.after.Estate, d.after.Config)
			if d.before.Estate == d.after.Estate || sameAddresses(d.before.Estate, d.after.Estate) { // else the flow may be called otherwise after
				was, is := first.Carry(&e.Flow), last.Carry(&e.Flow)
				require.True(t, was.Delivered && !is.Delivered, "%+v", e.Flow)
				met["ends"]++
			}
		}
		c := checkerOf(t, d)
		s := ground(d.before, d.after)
		done := map[int]bool{}
		for len(done) < len(d.plan.Writes) {
			ready := slices.Collect(func(yield func(int) bool) {
				for i := range d.plan.Writes {
					if w := &d.plan.Writes[i]; !done[i] && !slices.ContainsFunc(w.Waits, func(k int) bool { return !done[k] }) && !yield(i) {
						return
					}
				}
			})
			w := &d.plan.Writes[rapid.SampledFrom(ready).Draw(t, "next")]
			done[w.Number] = true
			s = s.With(w.Key, w.Body)
			met.If(w.Step == Tighten && slices.ContainsFunc(d.plan.Writes, func(o Write) bool { return o.Key == w.Key && o.Step == Open }), "twice")
			met.If(w.Step == Move, "move")
			met.If(w.Narrow, "narrow")
			met.If(len(ready) < len(d.plan.Writes)-len(done)+1, "held back")
			if len(checked.Open) > 0 {
				continue
			}
			c.compare(t, d, s, done, met)
		}
		had, has := Documents(s), Documents(d.after)
		for key, body := range has {
			require.NotNil(t, had[key], "%v is missing", key)
			if key.Kind == KindPlacement { // networks that are gone may stay placed
				require.Subset(t, had[key].Placements, body.Placements)
				continue
			}
			require.Equal(t, Hash(body), Hash(had[key]), "%v is not what it should be", key)
		}
	})
}

// checkerOf returns what packets of drawn endpoints are sent with.
func checkerOf(t *rapid.T, d *drawn) *checker {
	c := &checker{known: map[end]bool{}, services: servicesOf(d.a, d.b)}
	c.first, c.last, c.end = newView(ground(d.before, d.after)), newView(d.after), newView(d.plan.end(ground(d.before, d.after)))
	c.endpoints(d.a, c.first)
	c.endpoints(d.b, c.last)
	ends := rapid.Permutation(c.ends).Draw(t, "ends")
	c.ends = ends[:min(len(ends), 9)]
	return c
}

func (c *checker) compare(t *rapid.T, d *drawn, s State, done map[int]bool, met meet.Met) {
	v := newView(s)
	for i := range c.ends {
		for k := range c.ends {
			src, dst := &c.ends[i], &c.ends[k]
			if i == k || src.network == "" && dst.network == "" || src.inside.Is4() != dst.inside.Is4() {
				continue
			}
			befores, _ := c.first.carry(src, dst, c.services)
			afters, _ := c.then(src, dst)
			now, f := v.carry(src, dst, c.services)
			for n, service := range c.services {
				before, after, got := befores[n], afters[n], now[n]
				met.If(!before.Same(&after), "packet changes")
				if !got.Delivered || allowed(&got, &before) || allowed(&got, &after) {
					continue
				}
				for i := range d.plan.Writes {
					w := &d.plan.Writes[i]
					t.Logf("W%d done %v: %s %v waits %v\n  +%q\n  -%q", i, done[i], w.Step, w.Key, w.Waits, w.Added, w.Removed)
				}
				require.Fail(t, "passes in between", "%+v %+v\nbefore %+v\nthen %+v\nafter %+v", f, service, before, got, after)
			}
		}
	}
}

// sameAddresses reports whether all networks of two estates have the same addresses in the same
// segments, and nothing is translated or shown.
func sameAddresses(a, b *estate.Estate) bool {
	plain := func(e *estate.Estate) bool {
		return !slices.ContainsFunc(e.Attachments, func(x estate.Attachment) bool { return len(x.Translate) > 0 }) &&
			!slices.ContainsFunc(e.Shares, func(x estate.Share) bool { return len(x.Show) > 0 })
	}
	return plain(a) && plain(b) && slices.EqualFunc(a.Networks, b.Networks, func(x, y estate.Network) bool {
		return x.Name == y.Name && x.Segment == y.Segment && slices.Equal(x.Subnets, y.Subnets)
	})
}

// TestKeysAreFoundByTheirNames reads keys back from the names under which documents are stored.
func TestKeysAreFoundByTheirNames(t *testing.T) {
	for _, key := range []Key{
		{Kind: KindSegment, Name: "office"}, {Kind: KindPlacement}, {Kind: KindList, Account: "velum-central", Name: "prices", On: "hosts"},
		{Kind: KindEntries, Account: "cirra-north", On: "by-hand/names-1"}, {Kind: KindBinding, Account: "cirra-north"},
	} {
		require.Equal(t, key, KeyOf(key.String()))
		require.Equal(t, key.Account, AccountOf(key.String()))
	}
	require.Equal(t, Key{}, KeyOf(""))
}
