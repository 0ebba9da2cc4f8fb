package document

import (
	"fmt"

	"bivium/core/estate"
	"bivium/core/limits"
)

// problem is something wrong between the keys of one object.
type problem struct{ message, fix string }

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
			return []problem{{fmt.Sprintf("the rule has a pool, and the action %s", t.Action), "use a pool with inspect only"}}
		}
	case *estate.Expectation:
		if t.Pool != "" && t.Expect != "inspected" {
			return []problem{{fmt.Sprintf("the expectation has a pool, and expects %s", t.Expect), "use a pool with inspected only"}}
		}
	case *estate.Group:
		return ofGroup(t)
	}
	return nil
}

func ofEstate(e *estate.Estate) []problem {
	var out []problem
	if e.Version != estate.Version {
		out = append(out, problem{fmt.Sprintf("the format version is %d", e.Version), fmt.Sprintf("this program reads version %d", estate.Version)})
	}
	if len(e.Segments) > limits.Segments {
		out = append(out, problem{fmt.Sprintf("there are %d segments; the limit is %d", len(e.Segments), limits.Segments), "split the estate, or merge similar segments and use groups inside them"})
	}
	if len(e.Hubs) > limits.Hubs {
		out = append(out, problem{fmt.Sprintf("there are %d hubs; the limit is %d", len(e.Hubs), limits.Hubs), "split the estate"})
	}
	seen := map[string]string{}
	for _, p := range e.Pools {
		for _, f := range p.Firewalls {
			if pool, twice := seen[f.Name]; twice && pool != p.Name {
				out = append(out, problem{fmt.Sprintf("pools %s and %s both have a firewall %q", pool, p.Name, f.Name), "rename one of them"})
			}
			seen[f.Name] = p.Name
		}
	}
	return out
}

func ofPolicy(p *estate.Policy) []problem {
	var out []problem
	if p.Guardrail() && !p.Segments.IsZero() {
		out = append(out, problem{"a guardrail has no segments", "write fromSegments and toSegments"})
	}
	if !p.Guardrail() && p.Segments.IsZero() {
		out = append(out, problem{`the key "segments" is missing`, "list the segments that the policy applies to, or write all"})
	}
	if !p.Guardrail() && !(p.FromSegments.IsZero() && p.ToSegments.IsZero()) {
		out = append(out, problem{"a standard policy cannot have fromSegments and toSegments", "write segments, or make it a guardrail"})
	}
	return out
}

func ofGroup(g *estate.Group) []problem {
	var out []problem
	for _, text := range []string{g.Match, g.NetworkMatch} {
		if text == "" {
			continue
		}
		if _, err := estate.ParseSelector(text); err != nil {
			out = append(out, problem{err.Error(), "write parts like app=web, env in (prod, test), !legacy"})
		}
	}
	return out
}
