package verdict

import (
	"sync"

	"bivium/core/paths"
)

// Effect is all that M8 can see of a way. Two paths of one effect have the same
// outcome under the same intended verdict. Effects can be compared.
type Effect struct {
	facts
	Absence paths.Absence
	Exit    int    // of a way to the internet, on which the groups of the far end depend, or paths.None
	Reach   string // of a hub path: by pool, '1' if it can be passed and '0' if not
}

// EffectOf returns the effect of a way. Cost: the pools times their hubs, once for
// each segment and hub.
func (j *Judge) EffectOf(w *Way) Effect {
	g := j.factsOf(w)
	e := Effect{facts: g.told, Absence: w.Path.Absence, Exit: paths.None}
	if w.Path.External {
		e.Exit = w.Path.Exit
	}
	if e.Kind != paths.HubPath {
		return e
	}
	e.Reach = j.reach.from(w.Path.Segment, w.Path.Hubs[0], func() string {
		reach := make([]byte, len(j.Pools))
		for p := range j.Pools {
			reach[p] = '0'
			if hub, _ := g.pass(p); hub != paths.None {
				reach[p] = '1'
			}
		}
		return string(reach)
	})
	return e
}

// reachBook remembers which pools can be passed by the paths of a segment that
// begin at a hub: those of hubs that links join to it, wherever the paths go.
type reachBook struct{ known sync.Map }

func (b *reachBook) from(segment, hub int, find func() string) string {
	key := [2]int{segment, hub}
	if known, ok := b.known.Load(key); ok {
		return known.(string)
	}
	reach := find()
	b.known.Store(key, reach)
	return reach
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

// effectFacts makes an effect a ground.
type effectFacts struct{ *Effect }

func (g effectFacts) facts() *facts { return &g.Effect.facts }
