// Package pressure keeps a server from doing too much at once, for all or for one sender.
package pressure

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"runtime"

	"github.com/labstack/echo/v4"
	"golang.org/x/sync/semaphore"

	"bivium/core/limits"
	"bivium/internal/app"
)

// Queues keep what takes much memory from being done all at once.
type Queues struct {
	app     *app.App
	held    *semaphore.Weighted // requests that bring a document
	working *semaphore.Weighted // those of them that are worked on
	trials  *semaphore.Weighted // edits that are tried
}

// NewQueues returns the queues of an app.
func NewQueues(a *app.App) *Queues {
	return &Queues{a, semaphore.NewWeighted(limits.Documents), semaphore.NewWeighted(1), semaphore.NewWeighted(int64(runtime.GOMAXPROCS(0)))}
}

// Trial lets as many edits be tried at once as there are processors; others wait.
func (q *Queues) Trial(next echo.HandlerFunc) echo.HandlerFunc {
	tried := inTurn(q.trials, next)
	return func(c echo.Context) error {
		defer q.app.Urgent()()
		return tried(c)
	}
}

// Document lets one document be worked on at once. Meanwhile others come in, to a file each
// and not into memory; those beyond a few are told to come back.
func (q *Queues) Document(next echo.HandlerFunc) echo.HandlerFunc {
	worked := inTurn(q.working, next)
	return func(c echo.Context) error {
		if !q.held.TryAcquire(1) {
			c.Response().Header().Set("Retry-After", "10")
			return echo.NewHTTPError(http.StatusServiceUnavailable, fmt.Sprintf("%d documents are already being processed; try again in a moment", limits.Documents))
		}
		defer q.held.Release(1)
		file, err := spool(c.Request().Body)
		if err != nil {
			return err
		}
		defer func() { err = errors.Join(err, file.Close(), os.Remove(file.Name())) }()
		c.Request().Body = file
		return worked(c)
	}
}

// inTurn waits for a place before it goes on, as long as somebody waits for the answer.
func inTurn(places *semaphore.Weighted, next echo.HandlerFunc) echo.HandlerFunc {
	return func(c echo.Context) error {
		if err := places.Acquire(c.Request().Context(), 1); err != nil {
			return context.Cause(c.Request().Context())
		}
		defer places.Release(1)
		return next(c)
	}
}

// spool puts what a body brings into a file.
func spool(body io.Reader) (*os.File, error) {
	file, err := os.CreateTemp("", "bivium-document-")
	if err != nil {
		return nil, err
	}
	if _, err = io.Copy(file, body); err == nil {
		_, err = file.Seek(0, io.SeekStart)
	}
	if err != nil {
		return nil, errors.Join(err, file.Close(), os.Remove(file.Name()))
	}
	return file, nil
}
