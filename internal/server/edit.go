package server

import (
	"fmt"
	"net/http"

	"github.com/labstack/echo/v4"

	"bivium/core/edit"
	"bivium/core/estate"
	"bivium/core/wiring"
	"bivium/internal/app"
	"bivium/internal/app/drafts"
	"bivium/internal/app/rules"
	"bivium/internal/app/view"
)

// edits is the body of a request that tries or makes an edit: operations, and short edits of
// the wiring that stand for further ones, made on what those leave.
type edits struct {
	Operations []edit.Operation `json:"operations"`
	Wiring     []wiring.Edit    `json:"wiring"`
}

// editOf returns the edit that a request asks for, on the estate as its author saw it.
func (h *handlers) editOf(c echo.Context, now *view.Snapshot, seen int64) (*app.Edit, error) {
	var body edits
	if err := read(c, &body); err != nil {
		return nil, err
	}
	x := &app.Edit{Edit: edit.Edit{Operations: body.Operations}, Seen: seen, Strict: len(body.Wiring) > 0}
	if err := h.app.Expand(now, x, body.Wiring); err != nil {
		return nil, err
	}
	if len(x.Operations) == 0 && len(body.Wiring) == 0 {
		return nil, &view.Problem{At: "operations", Message: "there are no operations", Fix: "send at least one"}
	}
	return x, nil
}

func (h *handlers) tryEdit(c echo.Context) error {
	now, err := h.where(c)
	if err != nil {
		return err
	}
	seen := now.Revision
	if c.Request().Header.Get("If-Match") != "" {
		if seen, err = basedOn(c); err != nil {
			return err
		}
	}
	x, err := h.editOf(c, now, seen)
	if err != nil {
		return err
	}
	consequence, err := h.app.Try(c.Request().Context(), now, x)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, consequence)
}

// postEdit makes an edit in a draft, or, where none is named, at once: for that one must be
// allowed to apply, too, and no segment may have to approve it.
func (h *handlers) postEdit(c echo.Context) error {
	seen, err := basedOn(c)
	if err != nil {
		return err
	}
	draft, err := draftOf(c)
	if err != nil {
		return err
	}
	now, err := h.where(c)
	if err != nil {
		return err
	}
	x, err := h.editOf(c, now, seen)
	if err != nil {
		return err
	}
	who := whoOf(c)
	if draft != 0 {
		consequence, err := h.drafts.Add(c.Request().Context(), who, draft, x)
		if err != nil {
			return err
		}
		return c.JSON(http.StatusOK, consequence)
	}
	if err := h.mayApply(c); err != nil {
		return err
	}
	consequence, err := h.app.Make(c.Request().Context(), x, who.Name)
	if err != nil {
		return err
	}
	if err := h.note(c, "edited at once", fmt.Sprintf("revision %d", consequence.Revision), drafts.Words(&x.Edit)); err != nil {
		return err
	}
	return c.JSON(http.StatusOK, consequence)
}

func getRules(now *view.Snapshot, _ echo.Context) (any, error) { return rules.All(now), nil }

func getObject(now *view.Snapshot, c echo.Context) (any, error) {
	return rules.Open(now, estate.Ref{Kind: estate.Kind(c.QueryParam("kind")), Name: c.QueryParam("name")})
}
