package server

import (
	"encoding/json"
	"net/http"

	"github.com/labstack/echo/v4"

	"bivium/internal/app"
)

// suggest answers with a suggestion a line, each as soon as it is tried (application/x-ndjson).
// What is wrong with the question is told before the first line.
func (h *handlers) suggest(c echo.Context) error {
	sport, err := number(c, "sport", 65535)
	if err != nil {
		return err
	}
	q := &app.SuggestionQuestion{
		From: c.QueryParam("from"), To: c.QueryParam("to"), On: c.QueryParam("on"), SourcePort: sport, Publication: c.QueryParam("publication"),
		Want: c.QueryParam("want"), Pool: c.QueryParam("pool"),
	}
	now, err := h.where(c)
	if err != nil {
		return err
	}
	return streamed(c, func(found func(*app.Suggestion) error) error {
		return app.Suggest(c.Request().Context(), now, q, found)
	})
}

// fixes answers with the edits that remove a finding, as suggest does.
func (h *handlers) fixes(c echo.Context) error {
	now, err := h.where(c)
	if err != nil {
		return err
	}
	return streamed(c, func(found func(*app.Suggestion) error) error {
		return app.Fixes(c.Request().Context(), now, c.QueryParam("finding"), found)
	})
}

// streamed answers with what find finds, a line each.
func streamed(c echo.Context, find func(found func(*app.Suggestion) error) error) error {
	begun := false
	begin := func() {
		if !begun {
			begun = true
			c.Response().Header().Set(echo.HeaderContentType, "application/x-ndjson")
			c.Response().WriteHeader(http.StatusOK)
		}
	}
	err := find(func(s *app.Suggestion) error {
		begin()
		if err := json.NewEncoder(c.Response()).Encode(s); err != nil {
			return err
		}
		c.Response().Flush()
		return nil
	})
	if err == nil {
		begin()
	}
	return err
}
