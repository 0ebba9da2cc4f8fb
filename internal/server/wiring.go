package server

import (
	"net/http"

	"github.com/labstack/echo/v4"

	"bivium/core/wiring"
)

func (h *handlers) getLanes(c echo.Context) error {
	return c.JSON(http.StatusOK, h.app.Now().Lanes())
}

func (h *handlers) askStates(c echo.Context) error {
	states, err := h.app.States(c.Request().Context())
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, states)
}

func (h *handlers) getSessions(c echo.Context) error {
	return c.JSON(http.StatusOK, h.app.Sessions())
}

func (h *handlers) getRoutes(c echo.Context) error {
	now, find := h.app.Now(), c.QueryParam("find")
	if network := c.QueryParam("network"); network != "" {
		routes, err := now.NetworkRoutes(network, find)
		if err != nil {
			return err
		}
		return c.JSON(http.StatusOK, routes)
	}
	routes, err := now.HubRoutes(c.QueryParam("segment"), c.QueryParam("hub"), find)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, routes)
}

type edits struct {
	Edits []wiring.Edit `json:"edits"`
}

func (h *handlers) tryWiring(c echo.Context) error {
	var body edits
	if err := read(c, &body); err != nil {
		return err
	}
	rewired, err := h.app.Now().TryWiring(body.Edits)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, rewired)
}

func (h *handlers) postWiring(c echo.Context) error {
	based, err := basedOn(c)
	if err != nil {
		return err
	}
	var body edits
	if err := read(c, &body); err != nil {
		return err
	}
	rewired, err := h.app.Rewire(c.Request().Context(), body.Edits, based, actor)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, rewired)
}

func (h *handlers) getUndo(c echo.Context) error {
	last, err := h.app.Last(c.Request().Context())
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, last)
}

func (h *handlers) postUndo(c echo.Context) error {
	based, err := basedOn(c)
	if err != nil {
		return err
	}
	rewired, err := h.app.Undo(c.Request().Context(), based, actor)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, rewired)
}
