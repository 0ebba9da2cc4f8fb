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

func (h *handlers) getEstate(c echo.Context) error {
	return c.JSON(http.StatusOK, h.app.Now().Summary())
}

func (h *handlers) complete(c echo.Context) error {
	return c.JSON(http.StatusOK, h.app.Now().Complete(c.QueryParam("field"), c.QueryParam("text")))
}

func (h *handlers) ask(c echo.Context) error {
	var q app.Question
	if err := (&echo.DefaultBinder{}).BindQueryParams(c, &q); err != nil {
		return err
	}
	answer, err := h.app.Now().Ask(q)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, answer)
}

func (h *handlers) trace(c echo.Context) error {
	sport, err := number(c, "sport", 65535)
	if err != nil {
		return err
	}
	road, err := h.app.Now().Road(c.QueryParam("from"), c.QueryParam("to"), c.QueryParam("on"), sport, c.QueryParam("publication"))
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, road)
}

// openOf returns the segments that a request names as open.
func openOf(c echo.Context) []string {
	if text := c.QueryParam("open"); text != "" {
		return strings.Split(text, ",")
	}
	return nil
}

func (h *handlers) getBoard(c echo.Context) error {
	return c.JSON(http.StatusOK, h.app.Now().Board(openOf(c)))
}

// number returns a number that a question names, from 0 to most; 0 if it does not.
func number(c echo.Context, name string, most int) (int, error) {
	text := c.QueryParam(name)
	if text == "" {
		return 0, nil
	}
	n, err := strconv.Atoi(text)
	if err != nil || n < 0 || n > most {
		return 0, &app.Problem{At: name, Message: fmt.Sprintf("%q is no number from 0 to %d", text, most), Fix: "write a whole number, in digits"}
	}
	return n, nil
}

func (h *handlers) getCells(c echo.Context) error {
	row, err := number(c, "row", math.MaxInt32)
	if err != nil {
		return err
	}
	col, err := number(c, "col", math.MaxInt32)
	if err != nil {
		return err
	}
	cells, err := h.app.Now().Cells(openOf(c), row, col)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, cells)
}

func (h *handlers) getTroubles(c echo.Context) error {
	return c.JSON(http.StatusOK, h.app.Now().Troubles())
}

func (h *handlers) getCell(c echo.Context) error {
	cell, err := h.app.Now().Cell(c.QueryParam("row"), c.QueryParam("col"))
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, cell)
}

func (h *handlers) getPolicies(c echo.Context) error {
	return c.JSON(http.StatusOK, h.app.Now().Policies())
}

func (h *handlers) getPolicy(c echo.Context) error {
	view, err := h.app.Now().Policy(c.Param("name"))
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, view)
}

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
