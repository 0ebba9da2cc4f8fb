package verdict

import (
	"bivium/core/paths"
)

// Effect is all that M8 can see of a way. Two ways of one effect have the same
// outcome under the same intended verdict. Effects can be compared.
type Effect struct {
	facts
	Absence paths.Absence
	Exit    int    // of a way to the internet, on which the groups of the far end depend, or paths.None
	Reach   string // of a hub path: by pool, '1' if it can be passed and '0' if not
}

// EffectOf returns the effect of a way. Cost: the pools times their hubs.
func (j *Judge) EffectOf(w *Way) Effect {
	g := j.groundOf(w)
	e := Effect{facts: g.told, Absence: w.Path.Absence, Exit: paths.None}
	if w.Path.External {
		e.Exit = w.Path.Exit
	}
	if e.Kind != paths.HubPath {
		return e
	}
	reach := make([]byte, len(j.pools))
	for p := range j.pools {
		reach[p] = '0'
		if hub, _ := g.pass(p); hub != paths.None {
			reach[p] = '1'
		}
	}
	e.Reach = string(reach)
	return e
}

// LocalEffect returns the effect of local paths (M7.1) in a network that enforces
// verdicts, or does not.
func LocalEffect(enforced bool) Effect {
	return Effect{facts: facts{Kind: paths.Local, Enforced: enforced, BackHolds: true}, Exit: paths.None}
}

// UnpublishedEffect is the effect of flows from the internet that nothing
// publishes (M7.6).
func UnpublishedEffect() Effect {
	return Effect{Absence: paths.NoPublication, Exit: paths.None}
}

func (e *Effect) pass(pool int) (int, bool) {
	if e.Reach[pool] == '1' {
		return 0, true
	}
	return paths.None, false
}

// effectGround makes an effect a ground.
type effectGround struct{ *Effect }

func (g effectGround) facts() *facts { return &g.Effect.facts }
