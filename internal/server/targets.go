package server

import (
	"github.com/labstack/echo/v4"

	"bivium/internal/app/view"
)

func (h *handlers) getTargets(now *view.Snapshot, _ echo.Context) (any, error) {
	return h.targets.Of(now).Overview(), nil
}

func (h *handlers) getHeld(now *view.Snapshot, c echo.Context) (any, error) {
	return h.targets.Of(now).Held(c.QueryParam("kind"), c.QueryParam("name"))
}

func (h *handlers) getUses(now *view.Snapshot, c echo.Context) (any, error) {
	return h.targets.Of(now).For(c.QueryParam("kind"), c.QueryParam("name"))
}

func (h *handlers) getProof(now *view.Snapshot, _ echo.Context) (any, error) {
	return h.targets.Of(now).Proof(), nil
}
