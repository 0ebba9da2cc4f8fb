package survey

import "sync"

// aside keeps what was settled for edits that were tried: one that puts a network
// elsewhere lets stances meet effects that nothing has in the survey, and the next does
// so with mostly the same. Surveys share it as long as nobody says something else.
type aside struct {
	mu      sync.RWMutex
	vectors [][]int32 // by effect and stance: the vector and one more, or 0
}

// of returns the vector of a combination, if it is known. The aside must be locked.
func (a *aside) of(c combination) (int32, bool) {
	if int(c.effect) >= len(a.vectors) || int(c.stance) >= len(a.vectors[c.effect]) {
		return 0, false
	}
	vector := a.vectors[c.effect][c.stance] - 1
	return vector, vector >= 0
}

// take gives a survey the verdicts on those of some combinations that are known, and
// returns the others.
func (a *aside) take(s *Survey, wanted wants) (rest wants) {
	a.mu.RLock()
	defer a.mu.RUnlock()
	if len(a.vectors) == 0 {
		return wanted
	}
	rest = make(wants, len(wanted))
	for stance, effects := range wanted {
		for _, e := range effects {
			c := combination{int32(stance), e}
			if vector, known := a.of(c); known {
				s.enter(c, vector, len(wanted))
			} else {
				rest.want(c.stance, c.effect)
			}
		}
	}
	return rest
}

// keep keeps the verdicts of a survey on some combinations.
func (a *aside) keep(s *Survey, settled wants) {
	a.mu.Lock()
	defer a.mu.Unlock()
	for stance, effects := range settled {
		for _, e := range effects {
			for int(e) >= len(a.vectors) {
				a.vectors = append(a.vectors, nil)
			}
			if missing := len(settled) - len(a.vectors[e]); missing > 0 {
				a.vectors[e] = append(a.vectors[e], make([]int32, missing)...)
			}
			a.vectors[e][stance] = s.verdicts[e][stance] + 1
		}
	}
}
