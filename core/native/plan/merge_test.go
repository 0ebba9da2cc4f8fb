package plan

import (
	"fmt"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"bivium/core/testing/meet"
)

// span is a rule over numbers: the least kind of rule that there is.
type span struct {
	first, last int
	verb        string // allow, deny or steer
}

func spans() *ordered[span] {
	return &ordered[span]{
		digests: newDigests(),
		same:    func(a, b *span) bool { return *a == *b },
		key:     func(s *span) string { return fmt.Sprint(*s) },
		match:   func(s *span) string { return fmt.Sprint(s.first, s.last) },
		says:    func(s *span) string { return s.verb },
		denies:  func(s *span) bool { return s.verb == "deny" },
		free:    func(s *span) bool { return s.verb == "allow" },
		meet: func(a, b *span) (span, bool) {
			r := span{max(a.first, b.first), min(a.last, b.last), "allow"}
			for _, verb := range []string{"deny", "steer"} {
				if a.verb == verb || b.verb == verb {
					r.verb = verb
					break
				}
			}
			return r, r.first <= r.last
		},
		deny: func(s *span) span { return span{s.first, s.last, "deny"} },
	}
}

func decides(list []span, n int) string {
	for _, s := range list {
		if s.first <= n && n <= s.last {
			return s.verb
		}
	}
	return "deny"
}

// TestWhatPassesBothOfTwoLists leads drawn lists to what some changes make of them: what is written
// in between passes of every number just what both pass, and where it is not written, one of the two
// is that.
func TestWhatPassesBothOfTwoLists(t *testing.T) {
	wants := meet.Wants{"merged": 20, "product": 20, "one": 20}
	meet.Check(t, wants, func(t *rapid.T, met meet.Met) {
		rule := rapid.Custom(func(t *rapid.T) span {
			first := rapid.IntRange(0, 9).Draw(t, "first")
			return span{first, rapid.IntRange(first, 9).Draw(t, "last"), rapid.SampledFrom([]string{"allow", "allow", "deny", "deny", "steer"}).Draw(t, "verb")}
		})
		was := rapid.SliceOfN(rule, 0, 6).Draw(t, "was")
		is := slices.Clone(was)
		for range rapid.IntRange(0, 4).Draw(t, "changes") {
			at := rapid.IntRange(0, len(is)).Draw(t, "at")
			if at < len(is) && rapid.Bool().Draw(t, "removes") {
				is = slices.Delete(is, at, at+1)
			} else {
				is = slices.Insert(is, at, rule.Draw(t, "rule"))
			}
		}
		o := spans()
		_, simple := o.merged(align(was, is, keysOf(newDigests(), was, o.key), keysOf(newDigests(), is, o.key)))
		c := o.between(was, is)
		met.If(c.tighten && c.open && simple, "merged")
		met.If(c.tighten && c.open && !simple, "product")
		met.If(c.tighten != c.open, "one")
		between := c.both
		switch {
		case c.tighten && !c.open:
			between = is
		case !c.tighten:
			between = was
		}
		for n := range 10 {
			want := decides(was, n)
			if other := decides(is, n); want == "allow" || other == "deny" {
				want = other
			}
			require.Equal(t, want, decides(between, n), "number %d: %v, between %v, %v", n, was, between, is)
		}
	})
}
