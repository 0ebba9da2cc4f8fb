package server

import (
	"context"
	"encoding/json"
	"errors"
	"log/slog"
	"net/http"

	"github.com/labstack/echo/v4"

	"bivium/core/limits"
	"bivium/internal/app"
	"bivium/internal/app/view"
	"bivium/internal/store"
)

// problem is an error as RFC 9457 writes it.
type problem struct {
	Type      string         `json:"type"`
	Title     string         `json:"title"`
	Status    int            `json:"status"`
	Detail    string         `json:"detail,omitempty"`
	RequestID string         `json:"requestId"`
	Problems  []view.Problem `json:"problems,omitempty"` // each at its field
}

// problemOf tells what a user may know of an error.
func problemOf(err error) problem {
	p := problem{Type: "about:blank", Status: http.StatusInternalServerError, Title: "Something went wrong in the server"}
	var one *view.Problem
	var many view.Problems
	var stale *store.StaleError
	var http1 *echo.HTTPError
	var panicked *app.Panicked
	var most *limits.Exceeded
	switch {
	case errors.As(err, &one):
		p.Type, p.Status, p.Title, p.Problems = "urn:bivium:problem:input", http.StatusUnprocessableEntity, one.Message, []view.Problem{*one}
	case errors.Is(err, context.Canceled):
		p.Status, p.Title = http.StatusServiceUnavailable, "The request was cancelled"
	case errors.As(err, &most):
		p.Type, p.Status, p.Title = "urn:bivium:problem:input", http.StatusUnprocessableEntity, most.Error()
		p.Problems = []view.Problem{{Message: most.Error(), Fix: most.Fix}}
	case errors.As(err, &many):
		p.Type, p.Status, p.Title, p.Problems = "urn:bivium:problem:input", http.StatusUnprocessableEntity, "The edit cannot be saved", many
	case errors.As(err, &stale):
		p.Type, p.Status, p.Title = "urn:bivium:problem:stale", http.StatusConflict, "The estate was changed in the meantime"
		p.Detail = stale.Error() + "; review the current state, and save again"
	case errors.Is(err, app.ErrNoSuchPolicy), errors.Is(err, store.ErrNotFound):
		p.Status, p.Title = http.StatusNotFound, err.Error()
	case errors.As(err, &panicked):
		p.Detail = panicked.Error()
	case errors.Is(err, store.ErrNoRoom):
		p.Status, p.Title = http.StatusInsufficientStorage, store.ErrNoRoom.Error()
	case errors.Is(err, store.ErrReadOnly):
		p.Title = store.ErrReadOnly.Error()
	case errors.Is(err, store.ErrDamaged):
		p.Title = store.ErrDamaged.Error()
	case errors.As(err, &http1):
		p.Status, p.Title = http1.Code, http.StatusText(http1.Code)
		if text, ok := http1.Message.(string); ok {
			p.Detail = text
		}
	}
	return p
}

func problemHandler(log *slog.Logger) echo.HTTPErrorHandler {
	return func(err error, c echo.Context) {
		if c.Response().Committed {
			return
		}
		p := problemOf(err)
		p.RequestID = requestID(c)
		if p.Status >= http.StatusInternalServerError {
			log.Error("request failed", "id", p.RequestID, "error", err)
		}
		body, err := json.Marshal(p)
		if err == nil {
			err = c.Blob(p.Status, "application/problem+json", body)
		}
		if err != nil {
			log.Warn("error could not be sent", "id", p.RequestID, "error", err)
		}
	}
}
