package findings

import (
	"strconv"
	"time"

	"bivium/core/estate"
)

// noticeDays is how many days before something runs out that is a finding.
const noticeDays = 14

// days reports policies, shares and rules that ran out, that soon do, and those that somebody
// had to review by now (C3.7). Args are the kind, the name, the number of the rule or "", and
// the day.
func (f *finder) days() {
	e := f.Judge.Estate
	if e.Day == "" {
		return
	}
	soon := later(e.Day, noticeDays)
	look := func(kind estate.Kind, name, rule, until, review string) {
		of := []estate.Ref{{Kind: kind, Name: name}}
		switch {
		case until == "":
		case until < e.Day:
			f.note(RanOut, of, "", string(kind), name, rule, until)
		case until <= soon:
			f.note(RunsOut, of, "", string(kind), name, rule, until)
		}
		if review != "" && review <= e.Day {
			f.note(ReviewDue, of, "", string(kind), name, rule, review)
		}
	}
	for i := range e.Policies {
		p := &e.Policies[i]
		look(estate.KindPolicy, p.Name, "", p.Until, p.Review)
		for k := range p.Rules {
			look(estate.KindPolicy, p.Name, strconv.Itoa(k+1), p.Rules[k].Until, p.Rules[k].Review)
		}
	}
	for i := range e.Shares {
		s := &e.Shares[i]
		look(estate.KindShare, s.Name, "", s.Until, s.Review)
		for k := range s.Rules {
			look(estate.KindShare, s.Name, strconv.Itoa(k+1), s.Rules[k].Until, s.Rules[k].Review)
		}
	}
}

// later returns the day that is some days after another.
func later(day string, days int) string {
	at, err := time.Parse(estate.DayFormat, day)
	if err != nil {
		return day
	}
	return at.AddDate(0, 0, days).Format(estate.DayFormat)
}
