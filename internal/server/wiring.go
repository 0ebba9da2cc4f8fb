package server

import (
	"errors"
	"fmt"
	"net/http"

	"github.com/labstack/echo/v4"

	"bivium/internal/app/lanes"
	"bivium/internal/app/view"
)

func (h *handlers) getLanes(now *view.Snapshot, _ echo.Context) (any, error) {
	return h.app.Lanes(now)
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

func getRoutes(now *view.Snapshot, c echo.Context) (any, error) {
	find := c.QueryParam("find")
	if network := c.QueryParam("network"); network != "" {
		return lanes.NetworkRoutes(now, network, find)
	}
	return lanes.HubRoutes(now, c.QueryParam("segment"), c.QueryParam("hub"), find)
}

func (h *handlers) getUndo(now *view.Snapshot, c echo.Context) (any, error) {
	draft, err := draftOf(c)
	if err != nil || draft == 0 {
		last, lastErr := h.app.Last(c.Request().Context(), now)
		return last, errors.Join(err, lastErr)
	}
	return h.drafts.Last(draft)
}

func (h *handlers) postUndo(c echo.Context) error {
	based, err := basedOn(c)
	if err != nil {
		return err
	}
	draft, err := draftOf(c)
	if err != nil {
		return err
	}
	who := whoOf(c)
	if draft != 0 {
		if err := h.drafts.Turn(c.Request().Context(), who, draft, true); err != nil {
			return err
		}
		return c.JSON(http.StatusOK, nil)
	}
	if err := h.mayApply(c); err != nil {
		return err
	}
	undone, err := h.app.Undo(c.Request().Context(), based, who.Name)
	if err != nil {
		return err
	}
	if err := h.note(c, "edit undone", fmt.Sprintf("revision %d", undone.Revision), ""); err != nil {
		return err
	}
	return c.JSON(http.StatusOK, undone)
}
