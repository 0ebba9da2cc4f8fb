package server

import (
	"math"
	"net/http"
	"strconv"

	"github.com/labstack/echo/v4"

	"bivium/internal/app/applying"
	"bivium/internal/server/pressure"
)

// routePlans adds what has to do with writing to targets, and with test packets.
func routePlans(api *echo.Group, h *handlers, q *pressure.Queues) {
	api.GET("/applying", h.getApplying)
	api.PUT("/hubs", h.connectHubs)
	api.POST("/plans", h.postPlan, q.Trial)
	api.POST("/plans/preview", h.previewPlan, q.Trial)
	api.GET("/plans/:id", h.getPlan)
	api.POST("/plans/:id/order", h.steerPlan)
	api.POST("/packets", h.postPacket, q.Trial)
	api.POST("/rounds", h.postRound, q.Trial)
	api.GET("/rounds", h.getRounds)
}

func (h *handlers) getApplying(c echo.Context) error {
	status, err := h.applying.Status(c.Request().Context())
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, status)
}

// connectHubs stores how the hubs and their firewalls are reached.
func (h *handlers) connectHubs(c echo.Context) error {
	var body struct {
		Endpoint string `json:"endpoint"`
		Token    string `json:"token"`
	}
	if err := read(c, &body); err != nil {
		return err
	}
	if err := h.app.ConnectHubs(c.Request().Context(), body.Endpoint, body.Token); err != nil {
		return err
	}
	if err := h.note(c, "hubs connected", "hubs", body.Endpoint); err != nil {
		return err
	}
	return c.NoContent(http.StatusNoContent)
}

// previewPlan returns the plan that applying a draft, or the estate, would be.
func (h *handlers) previewPlan(c echo.Context) error {
	now, err := h.where(c)
	if err != nil {
		return err
	}
	v, err := h.applying.Preview(c.Request().Context(), applying.Order{Cause: applying.CauseEdit, Actor: whoOf(c).Name, After: now, PutRight: c.QueryParam("put-right") == "true"})
	if err == nil {
		err = folded(c, v)
	}
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, v)
}

// folded leaves as many writes of a plan as are asked for.
func folded(c echo.Context, v *applying.View) error {
	most, err := number(c, "most", math.MaxInt32)
	if err != nil {
		return err
	}
	if most == 0 {
		most = len(v.Writes)
	}
	v.Fold(most, c.QueryParam("target"))
	return nil
}

// postPlan makes a plan anew and carries it out.
func (h *handlers) postPlan(c echo.Context) error {
	var body struct {
		PutRight bool `json:"putRight"`
	}
	if err := read(c, &body); err != nil {
		return err
	}
	cause := applying.CauseEdit
	if body.PutRight {
		cause = applying.CauseDrift
	}
	v, err := h.applying.Begin(c.Request().Context(), applying.Order{Cause: cause, Actor: whoOf(c).Name, PutRight: body.PutRight})
	if err != nil {
		return err
	}
	if v == nil {
		return c.NoContent(http.StatusNoContent)
	}
	return c.JSON(http.StatusCreated, v)
}

func planID(c echo.Context) (int64, error) {
	id, err := strconv.ParseInt(c.Param("id"), 10, 64)
	if err != nil {
		return 0, echo.ErrNotFound
	}
	return id, nil
}

func (h *handlers) getPlan(c echo.Context) error {
	id, err := planID(c)
	if err != nil {
		return err
	}
	v, err := h.applying.Plan(c.Request().Context(), id)
	if err == nil {
		err = folded(c, v)
	}
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, v)
}

// steerPlan starts, pauses, resumes, stops or retries the plan that is under way.
func (h *handlers) steerPlan(c echo.Context) error {
	id, err := planID(c)
	if err != nil {
		return err
	}
	var body struct {
		Order string `json:"order"`
	}
	if err := read(c, &body); err != nil {
		return err
	}
	if err := h.applying.Steer(c.Request().Context(), whoOf(c), id, body.Order); err != nil {
		return err
	}
	v, err := h.applying.Plan(c.Request().Context(), id)
	if err == nil {
		err = folded(c, v)
	}
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, v)
}

// postPacket has one test packet sent, and lays what came of it beside what was predicted.
func (h *handlers) postPacket(c echo.Context) error {
	var body struct {
		From        string `json:"from"`
		To          string `json:"to"`
		On          string `json:"on"`
		SourcePort  int    `json:"sport"`
		Publication string `json:"publication"`
	}
	if err := read(c, &body); err != nil {
		return err
	}
	now, err := h.where(c)
	if err != nil {
		return err
	}
	out, err := h.packets.Try(c.Request().Context(), now, body.From, body.To, body.On, body.SourcePort, body.Publication)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, out)
}

// postRound has one packet sent for each class of flows, and keeps what came of it.
func (h *handlers) postRound(c echo.Context) error {
	var body struct {
		Segment string `json:"segment"`
		Plan    int64  `json:"plan"`
	}
	if err := read(c, &body); err != nil {
		return err
	}
	out, err := h.packets.Round(c.Request().Context(), h.app.Now(), body.Segment, body.Plan, whoOf(c).Name)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusCreated, out)
}

func (h *handlers) getRounds(c echo.Context) error {
	out, err := h.packets.Rounds(c.Request().Context())
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, map[string]any{"rounds": out})
}
