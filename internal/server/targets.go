package server

import (
	"net/http"

	"github.com/labstack/echo/v4"

	"bivium/internal/app/targets"
	"bivium/internal/app/view"
)

// seen returns a question about what the targets have to hold.
func (h *handlers) seen(ask func(b *targets.Book, c echo.Context) (any, error)) look {
	return func(now *view.Snapshot, c echo.Context) (any, error) {
		b, err := h.targets.Of(now)
		if err != nil {
			return nil, err
		}
		return ask(b, c)
	}
}

func getTargets(b *targets.Book, _ echo.Context) (any, error) { return b.Overview(), nil }

func getHeld(b *targets.Book, c echo.Context) (any, error) {
	return b.Held(c.QueryParam("kind"), c.QueryParam("name"))
}

func getUses(b *targets.Book, c echo.Context) (any, error) {
	return b.For(c.QueryParam("kind"), c.QueryParam("name"))
}

func getProof(b *targets.Book, _ echo.Context) (any, error) { return b.Proof(), nil }

// lookAtTargets reads what all connected accounts hold now, and compares it with what they have
// to hold.
func (h *handlers) lookAtTargets(c echo.Context) error {
	now, err := h.where(c)
	if err != nil {
		return err
	}
	b, err := h.targets.Of(now)
	if err != nil {
		return err
	}
	readings, err := h.app.ReadTargets(c.Request().Context())
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, b.Compare(readings))
}
