package server

import (
	"encoding/csv"
	"net/http"
	"strconv"
	"time"

	"github.com/labstack/echo/v4"

	"bivium/internal/people"
)

// directory answers what has to do with people, their tokens and what they did.
type directory struct {
	people   *people.Register
	sessions *sessions
}

func (d *directory) list(c echo.Context) error {
	return c.JSON(http.StatusOK, map[string]any{"people": d.people.All(), "teams": d.people.Teams()})
}

func (d *directory) put(c echo.Context) error {
	var body struct {
		Called  string         `json:"called"`
		Active  bool           `json:"active"`
		Grants  []people.Grant `json:"grants"`
		Subject string         `json:"subject"`
	}
	if err := read(c, &body); err != nil {
		return err
	}
	p := people.Person{Name: c.Param("name"), Called: body.Called, Active: body.Active, Grants: body.Grants, Subject: body.Subject}
	if err := d.people.Put(c.Request().Context(), whoOf(c), p); err != nil {
		return err
	}
	if !p.Active {
		if err := d.sessions.endAll(c.Request().Context(), p.Name, ""); err != nil {
			return err
		}
	}
	return d.list(c)
}

func (d *directory) link(c echo.Context) error {
	secret, err := d.people.Link(c.Request().Context(), whoOf(c), c.Param("name"))
	if err != nil {
		return err
	}
	return c.JSON(http.StatusCreated, map[string]string{"link": "/sign-in?link=" + secret})
}

func (d *directory) putTeam(c echo.Context) error {
	var body struct {
		Members []string `json:"members"`
	}
	if err := read(c, &body); err != nil {
		return err
	}
	if err := d.people.PutTeam(c.Request().Context(), whoOf(c), people.Team{Name: c.Param("name"), Members: body.Members}); err != nil {
		return err
	}
	return d.list(c)
}

func (d *directory) tokens(c echo.Context) error {
	return c.JSON(http.StatusOK, map[string]any{"tokens": d.people.TokensOf(whoOf(c).Name)})
}

func (d *directory) makeToken(c echo.Context) error {
	var body struct {
		Name string      `json:"name"`
		Role people.Role `json:"role"`
		Ends string      `json:"ends"`
	}
	if err := read(c, &body); err != nil {
		return err
	}
	ends, err := time.Parse(time.DateOnly, body.Ends)
	if err != nil {
		return &people.Problem{At: "ends", Message: "the end is not a day", Fix: "write one like 2026-12-31"}
	}
	secret, view, err := d.people.MakeToken(c.Request().Context(), whoOf(c), body.Name, body.Role, ends.AddDate(0, 0, 1))
	if err != nil {
		return err
	}
	return c.JSON(http.StatusCreated, map[string]any{"secret": secret, "token": view})
}

func (d *directory) dropToken(c echo.Context) error {
	id, err := strconv.ParseInt(c.Param("id"), 10, 64)
	if err != nil {
		return echo.ErrNotFound
	}
	if err := d.people.DropToken(c.Request().Context(), whoOf(c), id); err != nil {
		return err
	}
	return c.NoContent(http.StatusNoContent)
}

// auditPage is how many entries of the audit log are told at once.
const auditPage = 200

func (d *directory) audit(c echo.Context) error {
	before, err := number(c, "before", 1<<53)
	if err != nil {
		return err
	}
	entries, err := d.people.Audit().Last(c.Request().Context(), int64(before), c.QueryParam("find"), auditPage)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, map[string]any{"entries": entries})
}

// exportAudit writes the whole audit log as CSV (RFC 4180), the oldest entry first.
func (d *directory) exportAudit(c echo.Context) error {
	who := whoOf(c)
	if err := d.people.Audit().Add(c.Request().Context(), who, "audit log exported", "", ""); err != nil {
		return err
	}
	c.Response().Header().Set(echo.HeaderContentType, "text/csv; charset=utf-8")
	c.Response().Header().Set(echo.HeaderContentDisposition, `attachment; filename="bivium-audit.csv"`)
	c.Response().WriteHeader(http.StatusOK)
	w := csv.NewWriter(c.Response())
	if err := w.Write([]string{"number", "at", "who", "address", "what", "about", "detail"}); err != nil {
		return err
	}
	err := d.people.Audit().Each(c.Request().Context(), func(e people.Entry) error {
		return w.Write([]string{strconv.FormatInt(e.Number, 10), e.At.UTC().Format(time.RFC3339), e.Actor, e.Address, e.What, e.About, e.Detail})
	})
	w.Flush()
	if err == nil {
		err = w.Error()
	}
	return err
}

func (d *directory) verifyAudit(c echo.Context) error {
	count, head, err := d.people.Audit().Verify(c.Request().Context(), c.QueryParam("head"))
	broken, isBroken := err.(*people.Broken) //nolint:errorlint // it is returned as it is
	if err != nil && !isBroken {
		return err
	}
	out := map[string]any{"entries": count, "head": head, "broken": ""}
	if isBroken {
		out["broken"] = broken.Error()
	}
	return c.JSON(http.StatusOK, out)
}
