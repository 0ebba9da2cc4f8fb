package server

import (
	"errors"
	"net/http"

	"github.com/labstack/echo/v4"

	"bivium/internal/people"
)

// signIn answers what has to do with signing in, and with oneself.
type signIn struct {
	people   *people.Register
	sessions *sessions
	provider *provider // nil where nobody else vouches for people
}

// options tells how one can sign in.
func (s *signIn) options(c echo.Context) error {
	name := ""
	if s.provider != nil {
		name = s.provider.Called
	}
	return c.JSON(http.StatusOK, map[string]any{"doors": s.people.Doors(), "provider": name})
}

// entered begins the session of whoever signed in, or says why they did not.
func (s *signIn) entered(c echo.Context, who *people.Who, err error) error {
	switch {
	case errors.Is(err, people.ErrTooOften):
		c.Response().Header().Set("Retry-After", "60")
		return echo.NewHTTPError(http.StatusTooManyRequests, people.ErrTooOften.Error())
	case errors.Is(err, people.ErrRefused):
		return echo.NewHTTPError(http.StatusUnauthorized, people.ErrRefused.Error())
	case err != nil:
		return err
	}
	if err := s.sessions.begin(c, who.Name); err != nil {
		return err
	}
	return c.JSON(http.StatusOK, selfOf(who))
}

func (s *signIn) byPassword(c echo.Context) error {
	var body struct {
		Name     string `json:"name"`
		Password string `json:"password"`
	}
	if err := read(c, &body); err != nil {
		return err
	}
	who, err := s.people.SignIn(c.Request().Context(), body.Name, body.Password, c.RealIP())
	return s.entered(c, who, err)
}

func (s *signIn) byDoor(c echo.Context) error {
	var body struct {
		Name string `json:"name"`
	}
	if err := read(c, &body); err != nil {
		return err
	}
	who, err := s.people.EnterDoor(c.Request().Context(), body.Name, c.RealIP())
	return s.entered(c, who, err)
}

func (s *signIn) byLink(c echo.Context) error {
	var body struct {
		Link     string `json:"link"`
		Name     string `json:"name"`
		Password string `json:"password"`
	}
	if err := read(c, &body); err != nil {
		return err
	}
	who, err := s.people.UseLink(c.Request().Context(), body.Link, body.Name, body.Password, c.RealIP())
	if err == nil {
		err = s.sessions.endAll(c.Request().Context(), who.Name, "")
	}
	return s.entered(c, who, err)
}

func (s *signIn) out(c echo.Context) error {
	who := whoOf(c)
	if err := s.people.Audit().Add(c.Request().Context(), who, "signed out", who.Name, ""); err != nil {
		return err
	}
	if err := s.sessions.end(c); err != nil {
		return err
	}
	return c.NoContent(http.StatusNoContent)
}

func (s *signIn) changePassword(c echo.Context) error {
	var body struct {
		Old      string `json:"old"`
		Password string `json:"password"`
	}
	if err := read(c, &body); err != nil {
		return err
	}
	who := whoOf(c)
	err := s.people.ChangePassword(c.Request().Context(), who, body.Old, body.Password)
	if errors.Is(err, people.ErrTooOften) {
		return echo.NewHTTPError(http.StatusTooManyRequests, people.ErrTooOften.Error())
	}
	if err != nil {
		return err
	}
	but := ""
	if cookie, err := c.Cookie(s.sessions.manager.Cookie.Name); err == nil {
		but = cookie.Value
	}
	if err := s.sessions.endAll(c.Request().Context(), who.Name, but); err != nil {
		return err
	}
	return c.NoContent(http.StatusNoContent)
}

// self is somebody as they see themselves.
type self struct {
	Name   string        `json:"name"`
	Called string        `json:"called"`
	Roles  []people.Role `json:"roles"`
	Teams  []string      `json:"teams"`
}

func selfOf(w *people.Who) self {
	return self{w.Name, w.Called, w.RolesOf(), append([]string{}, w.Teams...)}
}

func (s *signIn) me(c echo.Context) error { return c.JSON(http.StatusOK, selfOf(whoOf(c))) }
