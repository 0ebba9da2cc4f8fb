package server

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"strings"

	"github.com/labstack/echo/v4"

	"bivium/core/edit"
	"bivium/core/limits"
	"bivium/internal/app"
	"bivium/internal/app/view"
	"bivium/internal/people"
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
	Conflict  *conflict      `json:"conflict,omitempty"`
}

// conflict is a thing that has been changed since the author of an edit saw it.
type conflict struct {
	Operation int             `json:"operation"` // of the edit, from 0
	Thing     view.Thing      `json:"thing"`
	Now       json.RawMessage `json:"now"` // as it is by now; null if it is not there
}

// problemOf tells what a user may know of an error.
func problemOf(err error) problem {
	p := problem{Type: "about:blank", Status: http.StatusInternalServerError, Title: "Something went wrong in the server"}
	var one *view.Problem
	var person *people.Problem
	var many view.Problems
	var stale *store.StaleError
	var http1 *echo.HTTPError
	var panicked *app.Panicked
	var changed *edit.Conflict
	var used *edit.InUse
	var most *limits.Exceeded
	switch {
	case errors.As(err, &one):
		p.Type, p.Status, p.Title, p.Problems = "urn:bivium:problem:input", http.StatusUnprocessableEntity, one.Message, []view.Problem{*one}
	case errors.As(err, &person):
		p.Type, p.Status, p.Title = "urn:bivium:problem:input", http.StatusUnprocessableEntity, upper(person.Message)
		p.Problems = []view.Problem{{At: person.At, Message: person.Message, Fix: person.Fix}}
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
	case errors.As(err, &changed):
		p.Type, p.Status, p.Title = "urn:bivium:problem:conflict", http.StatusConflict, upper(changed.Error())
		p.Conflict = &conflict{changed.At, view.Thing{Kind: string(changed.Thing.Kind), Name: changed.Thing.Name}, changed.Now}
	case errors.As(err, &used):
		p.Type, p.Status, p.Title = "urn:bivium:problem:input", http.StatusUnprocessableEntity, upper(used.Error())
		p.Problems = []view.Problem{{At: fmt.Sprintf("operations[%d].name", used.At), Message: used.Error(), Fix: "remove what refers to it too"}}
	case errors.Is(err, store.ErrNotFound):
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

// upper returns a sentence with a capital at its beginning.
func upper(text string) string { return strings.ToUpper(text[:1]) + text[1:] }

func problemHandler(log *slog.Logger) echo.HTTPErrorHandler {
	return func(err error, c echo.Context) {
		if c.Response().Committed {
			return
		}
		p := problemOf(err)
		p.RequestID = requestID(c)
		if p.Status >= http.StatusInternalServerError && c.Request().Context().Err() == nil { // else nobody waits for it
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
