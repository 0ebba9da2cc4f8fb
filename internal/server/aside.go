package server

import (
	"io"
	"net/http"
	"strconv"

	"github.com/labstack/echo/v4"
)

// asideOf returns the number of the thing that a request is about.
func asideOf(c echo.Context) (int64, error) {
	id, err := strconv.ParseInt(c.Param("id"), 10, 64)
	if err != nil {
		return 0, echo.ErrNotFound
	}
	return id, nil
}

func (h *handlers) putAside(c echo.Context) error {
	id, err := asideOf(c)
	if err != nil {
		return err
	}
	based, err := basedOn(c)
	if err != nil {
		return err
	}
	body, err := io.ReadAll(c.Request().Body)
	if err != nil {
		return err
	}
	effect, err := h.app.Repair(c.Request().Context(), id, body, based, whoOf(c).Name)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, effect)
}

func (h *handlers) deleteAside(c echo.Context) error {
	id, err := asideOf(c)
	if err != nil {
		return err
	}
	if err := h.app.RemoveAside(c.Request().Context(), id); err != nil {
		return err
	}
	return c.NoContent(http.StatusNoContent)
}
