package server

import (
	"net/http"

	"github.com/labstack/echo/v4"

	"bivium/internal/app/view"
	"bivium/internal/notices"
)

// routeNotices adds what somebody should know, and where they want to be told.
func routeNotices(api *echo.Group, h *handlers) {
	api.GET("/notices", h.getNotices)
	api.POST("/notices/seen", h.seeNotices)
	api.GET("/notices/settings", h.getNoticeSettings)
	api.PUT("/notices/settings", h.putNoticeSettings)
	api.POST("/notices/test", h.testNotices)
}

func (h *handlers) getNotices(c echo.Context) error {
	list, err := h.notices.Of(c.Request().Context(), whoOf(c).Name)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, map[string]any{"notices": list})
}

func (h *handlers) seeNotices(c echo.Context) error {
	var body struct {
		UpTo int64 `json:"upTo"`
	}
	if err := read(c, &body); err != nil {
		return err
	}
	if err := h.notices.See(c.Request().Context(), whoOf(c).Name, body.UpTo); err != nil {
		return err
	}
	return c.NoContent(http.StatusNoContent)
}

func (h *handlers) getNoticeSettings(c echo.Context) error {
	s, err := h.notices.SettingsOf(c.Request().Context(), whoOf(c).Name)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, s)
}

func (h *handlers) putNoticeSettings(c echo.Context) error {
	var body struct {
		Email   string   `json:"email"`
		Webhook string   `json:"webhook"`
		Kinds   []string `json:"kinds"`
	}
	if err := read(c, &body); err != nil {
		return err
	}
	field, err := h.notices.PutSettings(c.Request().Context(), whoOf(c).Name, &notices.Settings{Email: body.Email, Webhook: body.Webhook, Kinds: body.Kinds})
	if field != "" {
		return &view.Problem{At: field, Message: err.Error(), Fix: ""}
	}
	if err != nil {
		return err
	}
	return h.getNoticeSettings(c)
}

// testNotices sends somebody a notice, wherever they want to be told.
func (h *handlers) testNotices(c echo.Context) error {
	h.notices.Tell(c.Request().Context(), []string{whoOf(c).Name}, notices.Notice{Kind: notices.Test, Subject: "Test notification", Body: "Notifications reach you here.", Link: "/people/notices"})
	return c.NoContent(http.StatusNoContent)
}
