package server

import (
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"strconv"
	"time"

	"github.com/labstack/echo/v4"

	"bivium/internal/app/drafts"
	"bivium/internal/app/view"
	"bivium/internal/people"
)

// mayApply returns an error unless whoever sent a request may apply drafts.
func (h *handlers) mayApply(c echo.Context) error {
	if who := whoOf(c); !who.MayIn(people.Operator, "") {
		return echo.NewHTTPError(http.StatusForbidden, "only an operator can change the applied estate at once; make the edit in a draft")
	}
	return nil
}

// draftID returns the number of the draft in the path of a request.
func draftID(c echo.Context) (int64, error) {
	id, err := strconv.ParseInt(c.Param("id"), 10, 64)
	if err != nil {
		return 0, echo.ErrNotFound
	}
	return id, nil
}

func (h *handlers) getDrafts(c echo.Context) error {
	return c.JSON(http.StatusOK, map[string]any{"drafts": h.drafts.All()})
}

// postDraft begins a draft, with a first step where one is sent.
func (h *handlers) postDraft(c echo.Context) error {
	var body struct {
		Name   string `json:"name"`
		Reason string `json:"reason"`
		Ticket string `json:"ticket"`
	}
	if err := read(c, &body); err != nil {
		return err
	}
	summary, err := h.drafts.Begin(c.Request().Context(), whoOf(c), body.Name, body.Reason, body.Ticket)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusCreated, summary)
}

// about answers with a draft after something was done to it.
func (h *handlers) about(c echo.Context, do func(id int64, who *people.Who) error) error {
	id, err := draftID(c)
	if err != nil {
		return err
	}
	if err := do(id, whoOf(c)); err != nil {
		return err
	}
	return h.review(c, id)
}

func (h *handlers) review(c echo.Context, id int64) error {
	review, err := h.drafts.Review(c.Request().Context(), whoOf(c), id)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, review)
}

func (h *handlers) getDraft(c echo.Context) error {
	return h.about(c, func(int64, *people.Who) error { return nil })
}

func (h *handlers) getDraftFindings(c echo.Context) error {
	id, err := draftID(c)
	if err != nil {
		return err
	}
	found, err := h.drafts.Findings(c.Request().Context(), id)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, found)
}

func (h *handlers) putDraft(c echo.Context) error {
	var body struct {
		Name   string `json:"name"`
		Reason string `json:"reason"`
		Ticket string `json:"ticket"`
	}
	if err := read(c, &body); err != nil {
		return err
	}
	return h.about(c, func(id int64, who *people.Who) error {
		return h.drafts.Describe(c.Request().Context(), who, id, body.Name, body.Reason, body.Ticket)
	})
}

func (h *handlers) undoDraft(c echo.Context) error {
	return h.about(c, func(id int64, who *people.Who) error { return h.drafts.Turn(c.Request().Context(), who, id, true) })
}

func (h *handlers) redoDraft(c echo.Context) error {
	return h.about(c, func(id int64, who *people.Who) error { return h.drafts.Turn(c.Request().Context(), who, id, false) })
}

func (h *handlers) moveDraft(c echo.Context) error {
	var body struct {
		State string `json:"state"`
	}
	if err := read(c, &body); err != nil {
		return err
	}
	return h.about(c, func(id int64, who *people.Who) error {
		return h.drafts.Move(c.Request().Context(), who, id, body.State)
	})
}

func (h *handlers) resolveConflict(c echo.Context) error {
	var body struct {
		Kind string `json:"kind"`
		Name string `json:"name"`
		Mine bool   `json:"mine"`
	}
	if err := read(c, &body); err != nil {
		return err
	}
	return h.about(c, func(id int64, who *people.Who) error {
		return h.drafts.Resolve(c.Request().Context(), who, id, view.Thing{Kind: body.Kind, Name: body.Name}, body.Mine)
	})
}

func (h *handlers) approveDraft(c echo.Context) error {
	version, err := basedOn(c)
	if err != nil {
		return err
	}
	return h.about(c, func(id int64, who *people.Who) error {
		return h.drafts.Approve(c.Request().Context(), who, id, version)
	})
}

func (h *handlers) applyDraft(c echo.Context) error {
	version, err := basedOn(c)
	if err != nil {
		return err
	}
	var body struct {
		Emergency string `json:"emergency"`
		Staged    bool   `json:"staged"`
	}
	if err := read(c, &body); err != nil {
		return err
	}
	return h.about(c, func(id int64, who *people.Who) error {
		_, err := h.drafts.Apply(c.Request().Context(), who, id, version, drafts.How{Emergency: body.Emergency, Staged: body.Staged})
		return err
	})
}

func (h *handlers) commentDraft(c echo.Context) error {
	var body struct {
		About string `json:"about"`
		Text  string `json:"text"`
	}
	if err := read(c, &body); err != nil {
		return err
	}
	return h.about(c, func(id int64, who *people.Who) error {
		return h.drafts.Comment(c.Request().Context(), who, id, body.About, body.Text)
	})
}

func (h *handlers) resolveComment(c echo.Context) error {
	comment, err := strconv.ParseInt(c.Param("comment"), 10, 64)
	if err != nil {
		return echo.ErrNotFound
	}
	return h.about(c, func(id int64, who *people.Who) error {
		return h.drafts.ResolveComment(c.Request().Context(), who, id, comment)
	})
}

func (h *handlers) openInDraft(c echo.Context) error {
	id, err := draftID(c)
	if err != nil {
		return err
	}
	var body struct {
		Object string `json:"object"`
	}
	if err := read(c, &body); err != nil {
		return err
	}
	h.drafts.Events.Opens(whoOf(c), id, body.Object)
	return c.NoContent(http.StatusNoContent)
}

// heartbeat is how often a stream of events that is silent says that it is there.
const heartbeat = 20 * time.Second

// events sends what happens to the estate and to drafts, as server-sent events, until whoever
// listens goes.
func (h *handlers) events(c echo.Context) error {
	draft, err := draftOf(c)
	if err != nil {
		return err
	}
	l := h.drafts.Events.Listen(whoOf(c), draft)
	defer l.Close()
	r := c.Response()
	control := http.NewResponseController(r)
	if err := control.SetWriteDeadline(time.Time{}); err != nil && !errors.Is(err, http.ErrNotSupported) {
		return err
	}
	r.Header().Set(echo.HeaderContentType, "text/event-stream")
	r.WriteHeader(http.StatusOK)
	r.Flush()
	tick := time.NewTicker(heartbeat)
	defer tick.Stop()
	for {
		select {
		case <-c.Request().Context().Done():
			return nil
		case <-h.closing:
			return nil
		case <-tick.C:
			if _, err := fmt.Fprint(r, ": here\n\n"); err != nil {
				return nil //nolint:nilerr // they have gone
			}
		case e := <-l.C:
			text, err := json.Marshal(e)
			if err != nil {
				return err
			}
			if _, err := fmt.Fprintf(r, "data: %s\n\n", text); err != nil {
				return nil //nolint:nilerr // they have gone
			}
		}
		r.Flush()
	}
}
