package applying

import (
	"sync"
	"time"

	"bivium/core/native/plan"
	"bivium/internal/store"
)

// paces is how long one write at each target took lately. The zero paces knows none.
type paces struct {
	mu   sync.Mutex
	took map[string]time.Duration
}

// usual is how long a write takes at a target that was not written to yet.
const usual = 300 * time.Millisecond

// note takes in how long a write took: the last ones count most.
func (p *paces) note(target string, took time.Duration) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.took == nil {
		p.took = map[string]time.Duration{}
	}
	if old, known := p.took[target]; known {
		took = (3*old + took) / 4
	}
	p.took[target] = took
}

func (p *paces) of(target string) time.Duration {
	p.mu.Lock()
	defer p.mu.Unlock()
	if took, known := p.took[target]; known {
		return took
	}
	return usual
}

// left returns how long the writes that are not done yet should take: one at a time at each target,
// each after those that it waits for. Targets that are away are not counted with.
func (p *paces) left(writes []plan.Write, states []store.PlanWrite) time.Duration {
	ends, free := make([]time.Duration, len(writes)), map[string]time.Duration{}
	last := time.Duration(0)
	for i := range writes {
		if states[i].State == store.WriteDone {
			continue
		}
		target := writes[i].Key.Target()
		start := free[target]
		for _, k := range writes[i].Waits {
			start = max(start, ends[k])
		}
		ends[i] = start + p.of(target)
		free[target] = ends[i]
		last = max(last, ends[i])
	}
	return last
}
