package server

import (
	"net/http"

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

// lookAtTargets reads what all connected accounts hold now, and compares it with what they have
// to hold.
func (h *handlers) lookAtTargets(c echo.Context) error {
	now, err := h.where(c)
	if err != nil {
		return err
	}
	readings, err := h.app.ReadTargets(c.Request().Context())
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, h.targets.Of(now).Compare(readings))
}
