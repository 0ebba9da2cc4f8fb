package server

import (
	"fmt"
	"math"
	"strconv"
	"strings"

	"bivium/core/estate"
	"bivium/core/verdict"
	"bivium/internal/app"
	"bivium/internal/app/applying"
	"bivium/internal/app/drafts"
	"bivium/internal/app/failures"
	"bivium/internal/app/history"
	"bivium/internal/app/packets"
	"bivium/internal/app/rules"
	"bivium/internal/app/targets"
	"bivium/internal/app/view"
	"bivium/internal/app/watch"
	"bivium/internal/notices"
	"bivium/internal/people"

	"github.com/labstack/echo/v4"
)

type handlers struct {
	app      *app.App
	drafts   *drafts.Desk
	history  *history.History
	audit    *people.Audit
	demo     []byte
	targets  *targets.Books
	applying *applying.Service
	watch    *watch.Service
	packets  *packets.Service
	notices  *notices.Service
	closing  chan struct{} // closed when the server stops
}

// note puts what was done into the audit log.
func (h *handlers) note(c echo.Context, what, about, detail string) error {
	return h.audit.Add(c.Request().Context(), whoOf(c), what, about, detail)
}

// where returns the snapshot that a request is about: the estate, a draft (draft), or the
// estate as of a revision (at).
func (h *handlers) where(c echo.Context) (*view.Snapshot, error) {
	switch {
	case c.QueryParam("draft") != "":
		id, err := strconv.ParseInt(c.QueryParam("draft"), 10, 64)
		if err != nil {
			return nil, &view.Problem{At: "draft", Message: "the draft is not a number", Fix: "use the number of a draft"}
		}
		return h.drafts.Snapshot(c.Request().Context(), id)
	case c.QueryParam("at") != "":
		revision, err := strconv.ParseInt(c.QueryParam("at"), 10, 64)
		if err != nil {
			return nil, &view.Problem{At: "at", Message: "the revision is not a number", Fix: "use the number of a revision"}
		}
		return h.history.At(c.Request().Context(), revision)
	}
	return h.app.Now(), nil
}

// draftOf returns the draft that a request is about; 0 for the estate. One about the estate as
// it was cannot change anything.
func draftOf(c echo.Context) (int64, error) {
	if c.QueryParam("at") != "" {
		return 0, &view.Problem{At: "at", Message: "the estate as it was cannot be changed", Fix: "go back to the applied estate, or to a draft"}
	}
	if c.QueryParam("draft") == "" {
		return 0, nil
	}
	id, err := strconv.ParseInt(c.QueryParam("draft"), 10, 64)
	if err != nil {
		return 0, &view.Problem{At: "draft", Message: "the draft is not a number", Fix: "use the number of a draft"}
	}
	return id, nil
}

func getEstate(now *view.Snapshot, _ echo.Context) (any, error) { return now.Summary(), nil }

func complete(now *view.Snapshot, c echo.Context) (any, error) {
	return now.Complete(c.QueryParam("field"), c.QueryParam("text")), nil
}

func ask(now *view.Snapshot, c echo.Context) (any, error) {
	var q view.Question
	if err := (&echo.DefaultBinder{}).BindQueryParams(c, &q); err != nil {
		return nil, err
	}
	return now.Ask(q)
}

func getDeciding(now *view.Snapshot, c echo.Context) (any, error) {
	var q view.Question
	if err := (&echo.DefaultBinder{}).BindQueryParams(c, &q); err != nil {
		return nil, err
	}
	return now.Deciding(q, verdict.Outcome(c.QueryParam("outcome")))
}

func getDecided(now *view.Snapshot, c echo.Context) (any, error) {
	kind, name, _ := strings.Cut(c.QueryParam("of"), ":")
	d := rules.DecidedBy(now, estate.Ref{Kind: estate.Kind(kind), Name: name})
	if d == nil {
		return nil, &view.Problem{At: "of", Message: fmt.Sprintf("there is no list of rules %q", c.QueryParam("of")), Fix: "name a policy, share or rulebook, such as rulebook:control"}
	}
	return d, nil
}

func (h *handlers) getScope(now *view.Snapshot, c echo.Context) (any, error) {
	kind, name, _ := strings.Cut(c.QueryParam("of"), ":")
	scope, err := h.app.Scope(now, estate.Ref{Kind: estate.Kind(kind), Name: name})
	if err == nil && scope == nil {
		err = &view.Problem{At: "of", Message: fmt.Sprintf("there is no rule object %q", c.QueryParam("of")), Fix: "name one that is in the estate, such as policy:offices-web"}
	}
	return scope, err
}

func getFailures(now *view.Snapshot, c echo.Context) (any, error) {
	kind, name, _ := strings.Cut(c.QueryParam("of"), ":")
	return failures.Of(now, view.Thing{Kind: kind, Name: name}), nil
}

func trace(now *view.Snapshot, c echo.Context) (any, error) {
	sport, err := number(c, "sport", 65535)
	if err != nil {
		return nil, err
	}
	return now.Road(c.QueryParam("from"), c.QueryParam("to"), c.QueryParam("on"), sport, c.QueryParam("publication"))
}

// openOf returns the segments that a request names as open.
func openOf(c echo.Context) []string {
	if text := c.QueryParam("open"); text != "" {
		return strings.Split(text, ",")
	}
	return nil
}

func getBoard(now *view.Snapshot, c echo.Context) (any, error) { return now.Board(openOf(c)), nil }

// number returns a number that a question names, from 0 to most; 0 if it does not.
func number(c echo.Context, name string, most int) (int, error) {
	text := c.QueryParam(name)
	if text == "" {
		return 0, nil
	}
	n, err := strconv.Atoi(text)
	if err != nil || n < 0 || n > most {
		return 0, &view.Problem{At: name, Message: fmt.Sprintf("%q is not a number from 0 to %d", text, most), Fix: "use a whole number"}
	}
	return n, nil
}

func getCells(now *view.Snapshot, c echo.Context) (any, error) {
	row, err := number(c, "row", math.MaxInt32)
	if err != nil {
		return nil, err
	}
	col, err := number(c, "col", math.MaxInt32)
	if err != nil {
		return nil, err
	}
	return now.Cells(openOf(c), row, col)
}

func (h *handlers) getIssues(now *view.Snapshot, c echo.Context) (any, error) {
	from, err := number(c, "from", math.MaxInt32)
	if err != nil {
		return nil, err
	}
	return h.app.IssuePage(now, &view.IssueFilter{
		Code: c.QueryParam("code"), Severity: c.QueryParam("severity"), Segment: c.QueryParam("segment"), Owner: c.QueryParam("owner"), Find: c.QueryParam("find"), From: from, Key: c.QueryParam("key"),
	})
}

func getCell(now *view.Snapshot, c echo.Context) (any, error) {
	return now.Cell(c.QueryParam("row"), c.QueryParam("col"))
}
