package applying_test

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"

	"bivium/core/native/plan"
	"bivium/internal/app/applying"
	"bivium/internal/store"
)

// TestAFoldedPlanKeepsWhatFailed folds a plan of hundreds of writes: so many of each step are left,
// all that failed among them, and how many there are is told.
func TestAFoldedPlanKeepsWhatFailed(t *testing.T) {
	whole := func() *applying.View {
		v := &applying.View{}
		for i := range 300 {
			w := applying.WriteView{Number: i, Step: string(plan.Prepare), Target: fmt.Sprint("account-", i%2), State: store.WriteDone}
			if i >= 200 {
				w.Step = string(plan.Open)
			}
			if i == 199 || i == 299 {
				w.State = store.WriteRefused
			}
			v.Writes = append(v.Writes, w)
		}
		return v
	}
	numbers := func(v *applying.View) (out []int) {
		for i := range v.Writes {
			out = append(out, v.Writes[i].Number)
		}
		return out
	}
	v := whole()
	v.Fold(3, "")
	assert.Equal(t, []int{199, 0, 1, 299, 200, 201}, numbers(v))
	assert.Equal(t, []applying.StepView{{Step: "prepare", Writes: 200}, {Step: "open", Writes: 100}}, v.Steps)
	v = whole()
	v.Fold(2, "account-0")
	assert.Equal(t, []int{0, 2, 200, 202}, numbers(v))
	assert.Equal(t, []applying.StepView{{Step: "prepare", Writes: 100}, {Step: "open", Writes: 50}}, v.Steps)
	v = whole()
	v.Fold(len(v.Writes), "")
	assert.Len(t, v.Writes, 300)
}
