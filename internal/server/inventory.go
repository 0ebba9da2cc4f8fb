package server

import (
	"fmt"
	"io"
	"net/http"
	"strconv"
	"strings"

	"github.com/labstack/echo/v4"

	"bivium/core/estate"
	"bivium/internal/app"
	"bivium/internal/app/targets"
	"bivium/internal/app/view"
	"bivium/internal/drivers/providers"
)

// basedOn returns the revision that an edit is based on.
func basedOn(c echo.Context) (int64, error) {
	based, err := strconv.ParseInt(strings.Trim(c.Request().Header.Get("If-Match"), `"`), 10, 64)
	if err != nil {
		return 0, echo.NewHTTPError(http.StatusPreconditionRequired, `send the revision that the edit is based on, for example If-Match: "7"`)
	}
	return based, nil
}

func (h *handlers) getAccounts(c echo.Context) error {
	accounts, err := h.app.Accounts(c.Request().Context())
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, map[string]any{"providers": providers.Names(), "accounts": accounts})
}

func (h *handlers) connect(c echo.Context) error {
	var body app.Connection
	if err := read(c, &body); err != nil {
		return err
	}
	account, err := h.app.Connect(c.Request().Context(), body, whoOf(c).Name)
	if err != nil {
		return err
	}
	if err := h.note(c, "credential changed", body.Name, body.Provider+" at "+body.Endpoint); err != nil {
		return err
	}
	return c.JSON(http.StatusCreated, account)
}

func (h *handlers) disconnect(c echo.Context) error {
	if err := h.app.Disconnect(c.Request().Context(), c.Param("name")); err != nil {
		return err
	}
	if err := h.note(c, "account disconnected", c.Param("name"), ""); err != nil {
		return err
	}
	return c.NoContent(http.StatusNoContent)
}

func (h *handlers) startReading(c echo.Context) error {
	reading, err := h.app.Read(c.Request().Context(), c.Param("name"), whoOf(c).Name, c.QueryParam("goOn") == "true")
	if err != nil {
		return err
	}
	if err := h.note(c, "sync started", c.Param("name"), ""); err != nil {
		return err
	}
	return c.JSON(http.StatusAccepted, reading)
}

func (h *handlers) stopReading(c echo.Context) error {
	h.app.StopReading(c.Param("name"))
	return c.NoContent(http.StatusNoContent)
}

func (h *handlers) askHealth(c echo.Context) error {
	states, err := h.app.Health(c.Request().Context(), c.Param("name"))
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, states)
}

func (h *handlers) askNativeRules(c echo.Context) error {
	lists, err := h.app.NativeRules(c.Request().Context(), c.Param("name"))
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, lists)
}

func (h *handlers) getRows(c echo.Context) error {
	var look struct {
		Open     []string `json:"open"`
		Find     string   `json:"find"`
		Unplaced bool     `json:"unplaced"`
		From     int      `json:"from"`
	}
	if err := read(c, &look); err != nil {
		return err
	}
	now, err := h.where(c)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, h.app.Rows(now, view.Look(look)))
}

func (h *handlers) getSheet(c echo.Context) error {
	now, err := h.where(c)
	if err != nil {
		return err
	}
	sheet, err := h.app.Sheet(c.Request().Context(), now, c.QueryParam("kind"), c.QueryParam("name"))
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, sheet)
}

type mappingRules struct {
	Rules []estate.MappingRule `json:"rules"`
}

func getTags(now *view.Snapshot, _ echo.Context) (any, error) {
	return app.Map(now, now.Estate.MappingRules())
}

func (h *handlers) tryTags(c echo.Context) error {
	var body mappingRules
	if err := read(c, &body); err != nil {
		return err
	}
	now, err := h.where(c)
	if err != nil {
		return err
	}
	tagged, err := app.Map(now, body.Rules)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, tagged)
}

func getMembers(now *view.Snapshot, c echo.Context) (any, error) {
	some, count, err := app.Members(now, c.QueryParam("match"))
	if err != nil {
		return nil, err
	}
	return map[string]any{"some": some, "count": count}, nil
}

func (h *handlers) tryImport(c echo.Context) error {
	text, err := io.ReadAll(c.Request().Body)
	if err != nil {
		return err
	}
	now, err := h.where(c)
	if err != nil {
		return err
	}
	imported, err := app.TryImport(now, c.Request().Context(), text)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, imported)
}

func (h *handlers) postImport(c echo.Context) error {
	based, err := basedOn(c)
	if err != nil {
		return err
	}
	text, err := io.ReadAll(c.Request().Body)
	if err != nil {
		return err
	}
	draft, err := draftOf(c)
	if err != nil {
		return err
	}
	if draft == 0 {
		if err := h.mayApply(c); err != nil {
			return err
		}
		return h.imported(c, text, based)
	}
	now, err := h.where(c)
	if err != nil {
		return err
	}
	x, err := app.EditOf(now, text)
	if err != nil {
		return err
	}
	if _, err := h.drafts.Add(c.Request().Context(), whoOf(c), draft, x); err != nil {
		return err
	}
	return c.NoContent(http.StatusNoContent)
}

func (h *handlers) postDemo(c echo.Context) error {
	based, err := basedOn(c)
	if err != nil {
		return err
	}
	if !h.app.Now().Empty() {
		return &view.Problem{Message: "the estate is not empty, and loading the demo would replace it", Fix: "run the demo on its own database: bivium demo"}
	}
	return h.imported(c, h.demo, based)
}

func (h *handlers) imported(c echo.Context, text []byte, based int64) error {
	imported, err := h.app.Import(c.Request().Context(), text, based, whoOf(c).Name)
	if err != nil {
		return err
	}
	if err := h.note(c, "document imported", imported.Name, fmt.Sprintf("revision %d", imported.Revision)); err != nil {
		return err
	}
	return c.JSON(http.StatusOK, imported)
}

func (h *handlers) export(c echo.Context) error {
	now, err := h.where(c)
	if err != nil {
		return err
	}
	text, name, kind, err := h.exported(now, c.QueryParam("as"))
	if err != nil {
		return err
	}
	c.Response().Header().Set("Content-Disposition", `attachment; filename="`+name+`"`)
	if err := h.note(c, "estate exported", now.Estate.Name, c.QueryString()); err != nil {
		return err
	}
	return c.Blob(http.StatusOK, kind, text)
}

// exported returns an estate in one of the forms that it can be had in.
func (h *handlers) exported(now *view.Snapshot, as string) (text []byte, name, kind string, err error) {
	if as == "" || as == "document" {
		text, err = app.Export(now)
		return text, "estate.yaml", "application/yaml", err
	}
	if as == "topology" {
		text, err = targets.Topology(now.Estate)
		return text, "topology.json", "application/yang-data+json", err
	}
	b, err := h.targets.Of(now)
	if err != nil {
		return nil, "", "", err
	}
	if as == "native" {
		return []byte(b.Text()), "native.txt", "text/plain; charset=utf-8", nil
	}
	text, err = b.AccessLists()
	return text, "access-lists.json", "application/yang-data+json", err
}
