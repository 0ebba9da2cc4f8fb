package server

import (
	"net/http"
	"sync"

	"github.com/labstack/echo/v4"
	"golang.org/x/time/rate"
)

// rates limits how many requests each person, and each address that is nobody's, may send.
type rates struct {
	perSecond int
	mu        sync.Mutex
	of        map[string]*rate.Limiter
}

// atOnce is for how many seconds' requests one may send at once.
const atOnce = 5

// mostSenders is of how many it is known how much they sent.
const mostSenders = 10_000

func newRates(perSecond int) *rates {
	return &rates{perSecond: perSecond, of: map[string]*rate.Limiter{}}
}

func (r *rates) allow(sender string) bool {
	if r.perSecond == 0 {
		return true
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if len(r.of) > mostSenders {
		clear(r.of)
	}
	l := r.of[sender]
	if l == nil {
		l = rate.NewLimiter(rate.Limit(r.perSecond), atOnce*r.perSecond)
		r.of[sender] = l
	}
	return l.Allow()
}

func tooMany(c echo.Context) error {
	c.Response().Header().Set("Retry-After", "1")
	return echo.NewHTTPError(http.StatusTooManyRequests, "too many requests; wait a second")
}
