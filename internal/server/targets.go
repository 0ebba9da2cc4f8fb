package server

import (
	"fmt"
	"net/http"
	"strings"

	"github.com/labstack/echo/v4"

	"bivium/internal/app"
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

// reading returns what targets have to hold, and what connected accounts hold now.
func (h *handlers) reading(c echo.Context, now *view.Snapshot) (*targets.Book, []targets.Reading, error) {
	b, err := h.targets.Of(now)
	if err != nil {
		return nil, nil, err
	}
	readings, err := h.app.ReadAll(c.Request().Context(), b)
	return b, readings, err
}

// lookAtTargets reads what all connected accounts hold now, and compares it with what they have
// to hold.
func (h *handlers) lookAtTargets(c echo.Context) error {
	now, err := h.where(c)
	if err != nil {
		return err
	}
	b, readings, err := h.reading(c, now)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, b.Compare(readings))
}

// takeOver reads what accounts hold, and begins a draft that makes the estate say the same.
func (h *handlers) takeOver(c echo.Context) error {
	ctx, now := c.Request().Context(), h.app.Now()
	b, readings, err := h.reading(c, now)
	if err != nil {
		return err
	}
	t, err := b.TakeOver(readings)
	if err != nil {
		return err
	}
	if len(t.Edit.Operations) == 0 {
		why := "no flow has another outcome than intended"
		if len(t.Left) > 0 {
			why = "no policy can say it: " + t.Left[0]
		}
		return &view.Problem{At: "drift", Message: "nothing can be taken over: " + why, Fix: "put it right instead"}
	}
	reason := "Takes over what targets hold otherwise than intended"
	if len(t.Left) > 0 {
		reason += fmt.Sprintf("; %d sets of flows are left out", len(t.Left))
	}
	summary, err := h.drafts.BeginWith(ctx, whoOf(c), "take-over-drift", reason, t.Edit, 0)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusCreated, summary)
}

// observe reads what accounts that are observed only hold now, and compares what that does with
// what policies intend.
func (h *handlers) observe(c echo.Context) error {
	now, err := h.where(c)
	if err != nil {
		return err
	}
	b, readings, err := h.reading(c, now)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, b.Observed(readings, openOf(c)))
}

// propose reads the same, and writes the policies that say what those accounts do: into the draft
// that is looked at, or one that it begins.
func (h *handlers) propose(c echo.Context) error {
	ctx := c.Request().Context()
	now, err := h.where(c)
	if err != nil {
		return err
	}
	id, err := draftOf(c)
	if err != nil {
		return err
	}
	b, readings, err := h.reading(c, now)
	if err != nil {
		return err
	}
	p, accounts, err := b.Propose(readings)
	if err != nil {
		return err
	}
	if p.Policies == 0 {
		return &view.Problem{At: "accounts", Message: "nothing to propose: policies already say what these lists do, or other policies and guardrails overrule them", Fix: "change the rules that the examples name, or manage the account"}
	}
	if id == 0 {
		reason := "Policies that say what the lists of " + strings.Join(accounts, ", ") + " do"
		summary, err := h.drafts.BeginWith(ctx, whoOf(c), "rules-of-"+accounts[0], reason, p.Edit, 0)
		if err != nil {
			return err
		}
		id = summary.ID
	} else if _, err := h.drafts.Add(ctx, whoOf(c), id, &app.Edit{Edit: *p.Edit, Seen: now.Revision}); err != nil {
		return err
	}
	then, err := h.drafts.Snapshot(ctx, id)
	if err != nil {
		return err
	}
	if b, err = h.targets.Of(then); err != nil {
		return err
	}
	left := len(b.Observed(readings, nil).Flows)
	return c.JSON(http.StatusCreated, &proposed{id, p.Policies, p.Groups, left == 0, left})
}

// proposed is a draft of proposed policies.
type proposed struct {
	Draft    int64 `json:"draft"`
	Policies int   `json:"policies"`
	Groups   int   `json:"groups"`
	Equal    bool  `json:"equal"` // with them, policies intend exactly what lists do
	Left     int   `json:"left"`  // sets of flows of which other policies say something else
}

func (h *handlers) getOutside(c echo.Context) error {
	o, err := h.watch.Outside(c.Request().Context())
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, o)
}

func (h *handlers) lookOutside(c echo.Context) error {
	o, err := h.watch.Look(c.Request().Context())
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, o)
}
