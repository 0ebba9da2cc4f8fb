package applying

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"bivium/core/native/plan"
	"bivium/internal/store"
)

// TestHowLongAPlanTakes has two targets that are written side by side, and a third write that waits
// for both: it takes as long as the slower one, and then its own.
func TestHowLongAPlanTakes(t *testing.T) {
	var p paces
	at := func(account string, waits ...int) plan.Write {
		return plan.Write{Key: plan.Key{Kind: plan.KindList, Account: account, Name: "n"}, Waits: waits}
	}
	writes := []plan.Write{at("slow"), at("quick"), at("quick", 0, 1)}
	states := make([]store.PlanWrite, len(writes))
	assert.Equal(t, 2*usual, p.left(writes, states), "nothing is known yet")
	p.note("slow", 4*time.Second)
	p.note("quick", time.Second)
	assert.Equal(t, 5*time.Second, p.left(writes, states))
	states[0].State = store.WriteDone
	assert.Equal(t, 2*time.Second, p.left(writes, states))
	p.note("quick", 3*time.Second)
	assert.Equal(t, 1500*time.Millisecond, p.of("quick"))
}
