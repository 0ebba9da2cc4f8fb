package survey

import (
	"encoding/binary"
	"sync"

	"bivium/core/verdict"
)

// ledger numbers stances and effects, so that tables hold numbers. It only
// grows, and surveys of edits of one estate share it: what an edit leaves alone
// keeps its number.
type ledger struct {
	mu       sync.RWMutex
	voices   map[verdict.Voice]int32
	byVoice  []verdict.Voice
	stances  []stance
	stanceOf map[string]int32
	effects  []verdict.Effect
	effectOf map[verdict.Effect]int32
}

// stance is who has a say about flows, in which context.
type stance struct {
	context verdict.Context
	voices  []int32
}

// combination is one stance on ways of one effect: all that a verdict depends on.
type combination struct{ stance, effect int32 }

func newLedger() *ledger {
	return &ledger{voices: map[verdict.Voice]int32{}, stanceOf: map[string]int32{}, effectOf: map[verdict.Effect]int32{}}
}

// voice returns the number of a voice. The ledger must be locked.
func (l *ledger) voice(v verdict.Voice) int32 {
	i, ok := l.voices[v]
	if !ok {
		i = int32(len(l.byVoice))
		l.voices[v] = i
		l.byVoice = append(l.byVoice, v)
	}
	return i
}

// stance returns the number of a stance, which it keeps. The ledger must be locked.
func (l *ledger) stance(context verdict.Context, voices []int32) int32 {
	key := make([]byte, 0, 8+4*len(voices))
	key = append(key, context.Key())
	for _, v := range voices {
		key = binary.LittleEndian.AppendUint32(key, uint32(v))
	}
	i, ok := l.stanceOf[string(key)]
	if !ok {
		i = int32(len(l.stances))
		l.stanceOf[string(key)] = i
		l.stances = append(l.stances, stance{context, voices})
	}
	return i
}

// effect returns the number of an effect.
func (l *ledger) effect(e verdict.Effect) int32 {
	l.mu.RLock()
	i, ok := l.effectOf[e]
	l.mu.RUnlock()
	if ok {
		return i
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	i, ok = l.effectOf[e]
	if !ok {
		i = int32(len(l.effects))
		l.effectOf[e] = i
		l.effects = append(l.effects, e)
	}
	return i
}

// len returns how many stances and effects there are.
func (l *ledger) len() (stances, effects int) {
	l.mu.RLock()
	defer l.mu.RUnlock()
	return len(l.stances), len(l.effects)
}

// effectAt returns an effect.
func (l *ledger) effectAt(i int32) *verdict.Effect {
	l.mu.RLock()
	defer l.mu.RUnlock()
	return &l.effects[i]
}

// stanceAt returns the context of a stance, and its voices, appended to a list.
func (l *ledger) stanceAt(i int32, voices []verdict.Voice) (verdict.Context, []verdict.Voice) {
	l.mu.RLock()
	defer l.mu.RUnlock()
	s := &l.stances[i]
	for _, v := range s.voices {
		voices = append(voices, l.byVoice[v])
	}
	return s.context, voices
}
