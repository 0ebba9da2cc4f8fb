package server

import (
	"net/http"

	"github.com/labstack/echo/v4"
)

func (h *handlers) getLanes(c echo.Context) error {
	return c.JSON(http.StatusOK, h.app.Now().Lanes())
}

func (h *handlers) getStates(c echo.Context) error {
	states, err := h.app.States(c.Request().Context())
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, states)
}
