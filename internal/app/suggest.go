package app

import (
	"context"
	"slices"
	"strings"

	"bivium/core/edit"
	"bivium/core/estate"
	"bivium/core/matrix"
	"bivium/core/suggest"
	"bivium/internal/app/consequence"
	"bivium/internal/app/view"
	"bivium/internal/wording"
)

// SuggestionQuestion is a flow, and the outcome that it should have.
type SuggestionQuestion struct {
	From, To, On string
	SourcePort   int
	Publication  string
	Want         string // allowed, inspected or denied
	Pool         string // with inspected; "" for any
}

// Suggestion is an edit that brings the outcome that was asked for, with what it changes besides.
type Suggestion struct {
	Words        []string                  `json:"words"` // one for each step
	Operations   []edit.Operation          `json:"operations"`
	Mark         *matrix.Mark              `json:"mark"`   // of the flow after it; nil where none was asked about
	Others       string                    `json:"others"` // pairs of addresses with another outcome, besides the flow; "" for more than can be read
	Flows        []consequence.FlowEffect  `json:"flows"`  // the first of them
	More         int                       `json:"more"`
	Expectations []consequence.Expectation `json:"expectations"` // those that break or hold again
	Left         []view.Thing              `json:"left"`         // what the finding that was asked about is still about; empty where it is gone
	Brings       int                       `json:"brings"`       // how many other findings come, of one
	// Rank sorts suggestions: those with the fewest side effects first.
	Rank []int64 `json:"rank"`
}

// maxSuggestedFlows is how many flows a suggestion tells.
const maxSuggestedFlows = 6

// actions are the outcomes that can be asked for.
var actions = map[string]estate.Action{"allowed": estate.Allow, "inspected": estate.Inspect, "denied": estate.Deny}

// Suggest finds edits that give a flow of a snapshot another outcome, and calls found with
// each as soon as it is tried; an error of found ends it.
func Suggest(ctx context.Context, s *view.Snapshot, q *SuggestionQuestion, found func(*Suggestion) error) error {
	action, ok := actions[q.Want]
	if !ok {
		return &view.Problem{At: "want", Message: "the outcome that is asked for is missing", Fix: "use allowed, inspected or denied"}
	}
	flow, err := s.ParseFlow(q.From, q.To, q.On, q.SourcePort, q.Publication)
	if err != nil {
		return err
	}
	services, err := servicesOf(s, q.On)
	if err != nil {
		return err
	}
	about := &suggest.Question{Flow: flow, Services: services, Home: s.HomeOf(q.To), Want: suggest.Want{Action: action, Pool: q.Pool}}
	suggest.Find(s.Analysis, about, func(x *suggest.Suggestion) bool {
		if err = ctx.Err(); err == nil {
			err = found(suggested(s, x))
		}
		return err == nil
	})
	return err
}

// Fixes finds edits that remove a finding of a snapshot, by its key, and calls found with each as
// soon as it is tried; an error of found ends it.
func Fixes(ctx context.Context, s *view.Snapshot, key string, found func(*Suggestion) error) (err error) {
	f := s.FindingOf(key)
	if f == nil {
		return &view.Problem{At: "finding", Message: "there is no finding " + key, Fix: "take the key of one of the findings; it may have gone meanwhile"}
	}
	suggest.Fixes(s.Analysis, f, func() bool {
		err = ctx.Err()
		return err == nil
	}, func(x *suggest.Suggestion) bool {
		fix := suggested(s, x)
		fix.Mark = nil
		err = found(fix)
		return err == nil
	})
	return err
}

func suggested(s *view.Snapshot, x *suggest.Suggestion) *Suggestion {
	after := s.Ahead(&view.Plan{Next: x.Analysis.Judge.Estate, Analysis: x.Analysis, Changed: x.Changed})
	e := consequence.EffectOnFlows(s, after, &x.Changed, maxSuggestedFlows)
	out := &Suggestion{
		Operations: x.Edit.Operations, Others: view.Grouped(x.Others), Flows: e.Flows, More: e.More, Expectations: e.Expectations,
		Left: view.Things(x.Left), Brings: x.Brings,
	}
	if x.Verdict.Outcome != "" {
		out.Mark = &matrix.Mark{Outcome: x.Verdict.Outcome, Contested: x.Verdict.Contested}
	}
	out.Words = wording.Steps(x.Steps)
	others := int64(1) << 60
	if x.Others.IsInt64() {
		others = min(others, x.Others.Int64())
	}
	out.Rank = []int64{int64(len(x.Broken)), int64(len(x.Left)), others, int64(x.Brings), int64(len(x.Steps))}
	return out
}

// servicesOf returns the services that a question names, as rules name them.
func servicesOf(s *view.Snapshot, on string) ([]estate.ServiceRef, error) {
	if _, err := s.FindTerms(on); err != nil {
		return nil, err
	}
	var out []estate.ServiceRef
	for _, word := range strings.Split(on, ",") {
		word, _, _ = strings.Cut(strings.TrimSpace(word), " from ")
		if slices.ContainsFunc(s.Estate.Services, func(v estate.Service) bool { return v.Name == word }) {
			out = append(out, estate.ServiceRef{Name: word})
			continue
		}
		ref, err := estate.ParseServiceRef(word)
		if err != nil {
			return nil, &view.Problem{At: "on", Message: err.Error(), Fix: "name a service, or write a term such as tcp/443"}
		}
		out = append(out, ref)
	}
	return out, nil
}

// SortSuggestions puts those with the fewest side effects first.
func SortSuggestions(list []*Suggestion) {
	slices.SortStableFunc(list, func(a, b *Suggestion) int { return slices.Compare(a.Rank, b.Rank) })
}
