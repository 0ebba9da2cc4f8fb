package server

import (
	"errors"
	"net/http"
	"net/http/httptest"
	"testing"

	"github.com/labstack/echo/v4"
	"github.com/stretchr/testify/assert"
)

// TestMemoryIsCollectedWhenNobodyWaits lets two requests overlap: only after the last of
// them is there a pause, and only if it is due is it used.
func TestMemoryIsCollectedWhenNobodyWaits(t *testing.T) {
	due, times, collected := true, 0, make(chan struct{})
	p := &pauses{due: func() bool { return due }, collect: func() {
		times++
		close(collected)
		collected = make(chan struct{})
	}}
	answer := func(inner func()) {
		c := echo.New().NewContext(httptest.NewRequest(http.MethodGet, "/", nil), httptest.NewRecorder())
		assert.Error(t, p.watch(func(echo.Context) error {
			inner()
			return errors.New("also after a failure")
		})(c))
	}
	done := collected
	answer(func() {
		answer(func() {})
		p.pause() // as if a timer had gone off between the two
		assert.Zero(t, times)
	})
	<-done
	assert.Equal(t, 1, times)
	due = false
	p.pause()
	assert.Equal(t, 1, times)
}
