package estate

import (
	"fmt"
	"slices"
	"time"
)

// DayFormat is how a day is written.
const DayFormat = time.DateOnly

// CheckDay returns what is wrong with a day as it is written, with how to fix it, or nil.
func CheckDay(text string) error {
	if _, err := time.Parse(DayFormat, text); err != nil {
		return fmt.Errorf("%q is not a day; write one like 2026-11-29", text)
	}
	return nil
}

// Active reports whether the policy applies: it is switched on, and has not run out.
func (p *Policy) Active() bool { return p.Enabled && !p.Lapsed }

// Active reports whether the share applies: it is switched on, and has not run out.
func (s *Share) Active() bool { return s.Enabled && !s.Lapsed }

// AsOf returns the estate as it is on a day: policies, shares and rules whose last day is
// over have lapsed, and do nothing from then on (C3.7). The estate itself is not changed; it
// is returned where nothing differs, and lists in which nothing does are shared with it.
func AsOf(e *Estate, day string) *Estate {
	next := *e
	next.Day = day
	same := e.Day == day
	next.Policies = lapse(e.Policies, &same, func(p *Policy) bool {
		rules := lapseRules(p.Rules, day)
		turned := p.Lapsed != over(p.Until, day) || rules != nil
		p.Lapsed = over(p.Until, day)
		if rules != nil {
			p.Rules = rules
		}
		return turned
	})
	next.Shares = lapse(e.Shares, &same, func(s *Share) bool {
		rules := lapseRules(s.Rules, day)
		turned := s.Lapsed != over(s.Until, day) || rules != nil
		s.Lapsed = over(s.Until, day)
		if rules != nil {
			s.Rules = rules
		}
		return turned
	})
	if same {
		return e
	}
	return &next
}

// over reports whether a last day is over on a day. Days are compared as they are written.
func over(until, day string) bool { return until != "" && until < day }

// lapse returns a list in which things have turned, as turn does with a copy of each; the
// list itself if none does.
func lapse[T any](list []T, same *bool, turn func(*T) bool) []T {
	out := list
	for i := range list {
		thing := list[i]
		if !turn(&thing) {
			continue
		}
		if *same = false; &out[0] == &list[0] {
			out = slices.Clone(list)
		}
		out[i] = thing
	}
	return out
}

// lapseRules returns rules of which some lapse, or apply again; nil if all are as they were.
func lapseRules(rules []Rule, day string) []Rule {
	var out []Rule
	for i := range rules {
		if rules[i].Lapsed == over(rules[i].Until, day) {
			continue
		}
		if out == nil {
			out = slices.Clone(rules)
		}
		out[i].Lapsed = !out[i].Lapsed
	}
	return out
}
