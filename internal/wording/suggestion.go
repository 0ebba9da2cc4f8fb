package wording

import (
	"fmt"
	"strings"

	"bivium/core/estate"
	"bivium/core/suggest"
)

// Steps says what the steps of a suggestion do, a sentence each; networks that are to do the same
// share one.
func Steps(list []suggest.Step) []string {
	var out, names []string
	for i := range list {
		s := &list[i]
		if s.Code != suggest.Enforce {
			out = append(out, Step(s))
			continue
		}
		names = append(names, s.Thing.Name)
		if i+1 < len(list) && list[i+1].Code == suggest.Enforce && list[i+1].To == s.To {
			continue
		}
		if len(names) > 1 {
			out = append(out, fmt.Sprintf("Enforce verdicts in networks %s themselves (enforcement: %s)", few(names, listed, " and "), s.To))
		} else {
			out = append(out, Step(s))
		}
		names = nil
	}
	return out
}

// Step says what one step of a suggestion does.
func Step(s *suggest.Step) string {
	name := s.Thing.Name
	switch s.Code {
	case suggest.InsertRule:
		where := "at its end"
		if s.At > 0 {
			where = fmt.Sprintf("before rule %d", s.At)
		}
		return fmt.Sprintf("In %s %s, add a rule %s: %s", s.Thing.Kind, name, where, ruleWords(s))
	case suggest.ChangeRule:
		return fmt.Sprintf("In %s %s, change rule %d to %s", s.Thing.Kind, name, s.At, ruleWords(s))
	case suggest.AddService:
		return fmt.Sprintf("In %s %s, add %s to rule %d", s.Thing.Kind, name, serviceNames(s.Services), s.At)
	case suggest.SwitchOff:
		return fmt.Sprintf("Switch off %s %s", s.Thing.Kind, name)
	case suggest.NewPolicy:
		return fmt.Sprintf("Add policy %s, from %s to %s: %s", name, s.From, s.To, ruleWords(s))
	case suggest.NewShare:
		return fmt.Sprintf("Add share %s: %s may reach %s: %s", name, s.From, s.To, ruleWords(s))
	case suggest.WidenShare:
		if s.To != "" {
			return fmt.Sprintf("In share %s, offer group %s too", name, s.To)
		}
		return fmt.Sprintf("In share %s, let group %s reach it too", name, s.From)
	case suggest.NewGroup:
		text := fmt.Sprintf("Add group %s with %s alone", name, s.To)
		if s.From != "" {
			text += ", within " + s.From
		}
		return text
	case suggest.PassRulebook:
		where := "at its end"
		if s.At > 0 {
			where = fmt.Sprintf("before rule %d", s.At)
		}
		return fmt.Sprintf("In rulebook %s, add a rule %s: pass %s from %s to %s", name, where, serviceNames(s.Services), s.From, s.To)
	case suggest.OtherPool:
		return fmt.Sprintf("In policy %s, inspect by pool %s in rule %d", name, s.Pool, s.At)
	case suggest.Attach:
		return fmt.Sprintf("Attach network %s to hub %s", name, s.To)
	case suggest.RouteToHub:
		return fmt.Sprintf("In network %s, route %s to the hub", name, s.To)
	case suggest.OfferHub:
		return fmt.Sprintf("Let network %s offer its hub to its peer %s", name, s.To)
	case suggest.ServeExit:
		return fmt.Sprintf("Let exit %s serve segment %s", name, s.To)
	case suggest.CarrySegment:
		return fmt.Sprintf("Let link %s carry segment %s", name, s.To)
	case suggest.AnnounceRoute:
		return fmt.Sprintf("On attachment %s, announce %s to the network", name, s.To)
	case suggest.AcceptRoute:
		return fmt.Sprintf("On attachment %s, accept %s from the network", name, s.To)
	}
	return fixStep(s)
}

// fixStep is Step for those that remove findings.
func fixStep(s *suggest.Step) string {
	name := s.Thing.Name
	what := fmt.Sprintf("%s %s", s.Thing.Kind, name)
	if s.At > 0 {
		what = fmt.Sprintf("rule %d of %s", s.At, what)
	}
	switch s.Code {
	case suggest.Remove, suggest.RemoveRule:
		return "Remove " + what
	case suggest.MoveRule:
		return fmt.Sprintf("Move %s before rule %s", what, s.To)
	case suggest.NestGroup:
		return fmt.Sprintf("Nest group %s in group %s", name, s.To)
	case suggest.UseGroup:
		return fmt.Sprintf("In policy %s, use group %s instead of %s", name, s.To, s.From)
	case suggest.RemoveRoute:
		return fmt.Sprintf("In network %s, remove the route to %s", name, s.To)
	case suggest.Enforce:
		return fmt.Sprintf("Enforce verdicts in network %s itself (enforcement: %s)", name, s.To)
	case suggest.FailClosed:
		return fmt.Sprintf("Let pool %s fail closed: deny what it cannot inspect", name)
	case suggest.DenyDefault:
		return fmt.Sprintf("In segment %s, deny what no policy matches", name)
	case suggest.AcceptLearned:
		return fmt.Sprintf("On attachment %s, accept %s", name, learned(s))
	case suggest.RefuseLearned:
		return fmt.Sprintf("On attachment %s, refuse %s", name, learned(s))
	case suggest.ForgetLearned:
		return fmt.Sprintf("On attachment %s, forget %s", name, learned(s))
	case suggest.Extend:
		return fmt.Sprintf("Let %s apply until %s", what, s.To)
	case suggest.NextReview:
		return fmt.Sprintf("Set the next review of %s to %s", what, s.To)
	}
	panic("wording: unknown step " + string(s.Code))
}

// learned names the learned prefixes of a step.
func learned(s *suggest.Step) string {
	if s.To == "" {
		return fmt.Sprintf("all prefixes of segment %s that wait", s.From)
	}
	return fmt.Sprintf("prefix %s of segment %s", s.To, s.From)
}

func ruleWords(s *suggest.Step) string {
	text := string(s.Action) + " " + serviceNames(s.Services)
	if s.Pool != "" {
		text += " by " + s.Pool
	}
	return text
}

func serviceNames(list []estate.ServiceRef) string {
	var out []string
	for _, x := range list {
		if name := x.String(); name != "any" {
			out = append(out, name)
		} else {
			out = append(out, "anything")
		}
	}
	return strings.Join(out, ", ")
}
