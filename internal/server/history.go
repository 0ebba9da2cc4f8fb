package server

import (
	"math"
	"net/http"
	"strconv"

	"github.com/labstack/echo/v4"

	"bivium/internal/app/view"
)

func (h *handlers) getRevisions(c echo.Context) error {
	before, err := number(c, "before", math.MaxInt32)
	if err != nil {
		return err
	}
	page, err := h.history.Page(c.Request().Context(), int64(before), c.QueryParam("all") == "true")
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, map[string]any{"revision": h.app.Now().Revision, "entries": page})
}

func (h *handlers) compare(c echo.Context) error {
	var ends [2]int64
	for i, name := range []string{"from", "to"} {
		n, err := number(c, name, math.MaxInt32)
		if err != nil {
			return err
		}
		ends[i] = int64(n)
	}
	comparison, err := h.history.Compare(c.Request().Context(), ends[0], ends[1])
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, comparison)
}

func (h *handlers) blame(c echo.Context) error {
	sport, err := number(c, "sport", 65535)
	if err != nil {
		return err
	}
	q := view.Question{From: c.QueryParam("from"), To: c.QueryParam("to"), On: c.QueryParam("on")}
	blame, err := h.history.Blame(c.Request().Context(), q, sport, c.QueryParam("publication"))
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, blame)
}

// revisionOf returns the number of the revision in the path of a request.
func revisionOf(c echo.Context) (int64, error) {
	n, err := strconv.ParseInt(c.Param("number"), 10, 64)
	if err != nil {
		return 0, echo.ErrNotFound
	}
	return n, nil
}

func (h *handlers) rollBack(c echo.Context) error {
	revision, err := revisionOf(c)
	if err != nil {
		return err
	}
	draft, err := h.history.RollBack(c.Request().Context(), whoOf(c), revision)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusCreated, draft)
}

func (h *handlers) reviewLater(c echo.Context) error {
	revision, err := revisionOf(c)
	if err != nil {
		return err
	}
	if err := h.history.ReviewLater(c.Request().Context(), whoOf(c), revision); err != nil {
		return err
	}
	return c.NoContent(http.StatusNoContent)
}
