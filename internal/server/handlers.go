package server

import (
	"fmt"
	"io"
	"math"
	"net/http"
	"strconv"
	"strings"

	"github.com/labstack/echo/v4"

	"bivium/internal/app"
)

type handlers struct {
	app  *app.App
	demo []byte
}

func getEstate(now *app.Snapshot, _ echo.Context) (any, error) { return now.Summary(), nil }

func complete(now *app.Snapshot, c echo.Context) (any, error) {
	return now.Complete(c.QueryParam("field"), c.QueryParam("text")), nil
}

func ask(now *app.Snapshot, c echo.Context) (any, error) {
	var q app.Question
	if err := (&echo.DefaultBinder{}).BindQueryParams(c, &q); err != nil {
		return nil, err
	}
	return now.Ask(q)
}

func trace(now *app.Snapshot, c echo.Context) (any, error) {
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

func getBoard(now *app.Snapshot, c echo.Context) (any, error) { return now.Board(openOf(c)), nil }

// number returns a number that a question names, from 0 to most; 0 if it does not.
func number(c echo.Context, name string, most int) (int, error) {
	text := c.QueryParam(name)
	if text == "" {
		return 0, nil
	}
	n, err := strconv.Atoi(text)
	if err != nil || n < 0 || n > most {
		return 0, &app.Problem{At: name, Message: fmt.Sprintf("%q is not a number from 0 to %d", text, most), Fix: "use a whole number"}
	}
	return n, nil
}

func getCells(now *app.Snapshot, c echo.Context) (any, error) {
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

func (h *handlers) getIssues(now *app.Snapshot, c echo.Context) (any, error) {
	from, err := number(c, "from", math.MaxInt32)
	if err != nil {
		return nil, err
	}
	return h.app.IssuePage(now, &app.IssueFilter{
		Code: c.QueryParam("code"), Severity: c.QueryParam("severity"), Segment: c.QueryParam("segment"), Find: c.QueryParam("find"), From: from, Key: c.QueryParam("key"),
	})
}

func getCell(now *app.Snapshot, c echo.Context) (any, error) {
	return now.Cell(c.QueryParam("row"), c.QueryParam("col"))
}

func getPolicies(now *app.Snapshot, _ echo.Context) (any, error) { return now.Policies(), nil }

func getPolicy(now *app.Snapshot, c echo.Context) (any, error) { return now.Policy(c.Param("name")) }

func (h *handlers) tryPolicy(c echo.Context) error {
	body, err := io.ReadAll(c.Request().Body)
	if err != nil {
		return err
	}
	effect, err := h.app.Now().Try(c.Param("name"), body)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, effect)
}

func (h *handlers) putPolicy(c echo.Context) error {
	based, err := basedOn(c)
	if err != nil {
		return err
	}
	body, err := io.ReadAll(c.Request().Body)
	if err != nil {
		return err
	}
	now, err := h.app.Save(c.Request().Context(), c.Param("name"), body, based, actor)
	if err != nil {
		return err
	}
	view, err := now.Policy(c.Param("name"))
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, view)
}
