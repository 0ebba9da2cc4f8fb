package server

import (
	"fmt"
	"math"
	"strconv"
	"strings"

	"bivium/internal/app"
	"bivium/internal/app/view"

	"github.com/labstack/echo/v4"
)

type handlers struct {
	app  *app.App
	demo []byte
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
		Code: c.QueryParam("code"), Severity: c.QueryParam("severity"), Segment: c.QueryParam("segment"), Find: c.QueryParam("find"), From: from, Key: c.QueryParam("key"),
	})
}

func getCell(now *view.Snapshot, c echo.Context) (any, error) {
	return now.Cell(c.QueryParam("row"), c.QueryParam("col"))
}
