package server

import (
	"net/http"
	"strconv"

	"github.com/labstack/echo/v4"

	"bivium/internal/app/drafts"
)

// routeWindows adds when drafts may be applied.
func routeWindows(api *echo.Group, h *handlers) {
	api.GET("/windows", h.getWindows)
	api.POST("/windows", h.postWindow)
	api.DELETE("/windows/:id", h.deleteWindow)
}

func (h *handlers) getWindows(c echo.Context) error {
	all, err := h.drafts.Windows(c.Request().Context())
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, map[string]any{"windows": all})
}

func (h *handlers) postWindow(c echo.Context) error {
	var w drafts.Window
	if err := read(c, &w); err != nil {
		return err
	}
	if err := h.drafts.AddWindow(c.Request().Context(), whoOf(c), &w); err != nil {
		return err
	}
	if w.Days == nil {
		w.Days = []string{}
	}
	return c.JSON(http.StatusCreated, w)
}

func (h *handlers) deleteWindow(c echo.Context) error {
	id, err := strconv.ParseInt(c.Param("id"), 10, 64)
	if err != nil {
		return echo.ErrNotFound
	}
	if err := h.drafts.DropWindow(c.Request().Context(), whoOf(c), id); err != nil {
		return err
	}
	return c.NoContent(http.StatusNoContent)
}
