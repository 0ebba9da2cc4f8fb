package document

import (
	"errors"
	"fmt"

	"bivium/core/estate"
	"bivium/core/limits"
)

// problem is something wrong between the keys of one object.
type problem struct {
	message, fix string
	key          string // at which of its keys; "" for the object
	character    int    // of its value
}

// problemsOf returns what is wrong between the keys of one thing that has been
// read, and cannot be understood. Faults (M9) are not among it.
func problemsOf(thing any) []problem {
	switch t := thing.(type) {
	case *estate.Estate:
		return ofEstate(t)
	case *estate.Policy:
		return ofPolicy(t)
	case *estate.Rule:
		if t.Pool != "" && t.Action != estate.Inspect {
			return []problem{{message: fmt.Sprintf("the rule has a pool, and the action %s", t.Action), fix: "use a pool with inspect only"}}
		}
	case *estate.Expectation:
		if t.Pool != "" && t.Expect != "inspected" {
			return []problem{{message: fmt.Sprintf("the expectation has a pool, and expects %s", t.Expect), fix: "use a pool with inspected only"}}
		}
	case *estate.MappingRule:
		if field, message, fix := t.Check(); field != "" {
			return []problem{{key: field, message: message, fix: fix}}
		}
	case *estate.Group:
		return ofGroup(t)
	}
	return nil
}

func ofEstate(e *estate.Estate) []problem {
	var out []problem
	if e.Version != estate.Version {
		out = append(out, problem{message: fmt.Sprintf("the format version is %d", e.Version), fix: fmt.Sprintf("this program reads version %d", estate.Version)})
	}
	if len(e.Segments) > limits.Segments {
		out = append(out, problem{message: fmt.Sprintf("there are %d segments; the limit is %d", len(e.Segments), limits.Segments), fix: "split the estate, or merge similar segments and use groups inside them"})
	}
	if len(e.Hubs) > limits.Hubs {
		out = append(out, problem{message: fmt.Sprintf("there are %d hubs; the limit is %d", len(e.Hubs), limits.Hubs), fix: "split the estate"})
	}
	seen := map[string]string{}
	for _, p := range e.Pools {
		for _, f := range p.Firewalls {
			if pool, twice := seen[f.Name]; twice && pool != p.Name {
				out = append(out, problem{message: fmt.Sprintf("pools %s and %s both have a firewall %q", pool, p.Name, f.Name), fix: "rename one of them"})
			}
			seen[f.Name] = p.Name
		}
	}
	return out
}

func ofPolicy(p *estate.Policy) []problem {
	var out []problem
	if p.Guardrail() && !p.Segments.IsZero() {
		out = append(out, problem{message: "a guardrail has no segments", fix: "write fromSegments and toSegments"})
	}
	if !p.Guardrail() && p.Segments.IsZero() {
		out = append(out, problem{message: `the key "segments" is missing`, fix: "list the segments that the policy applies to, or write all"})
	}
	if !p.Guardrail() && !(p.FromSegments.IsZero() && p.ToSegments.IsZero()) {
		out = append(out, problem{message: "a standard policy cannot have fromSegments and toSegments", fix: "write segments, or make it a guardrail"})
	}
	return out
}

func ofGroup(g *estate.Group) []problem {
	var out []problem
	for _, x := range [][2]string{{"match", g.Match}, {"networkMatch", g.NetworkMatch}} {
		key, text := x[0], x[1]
		if text == "" {
			continue
		}
		if _, err := estate.ParseSelector(text); err != nil {
			p := problem{message: err.Error(), fix: "write parts like app=web, env in (prod, test), !legacy", key: key}
			var slip *estate.SelectorError
			if errors.As(err, &slip) {
				p.character = slip.Character
			}
			out = append(out, p)
		}
	}
	return out
}
