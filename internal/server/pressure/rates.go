package pressure

import (
	"net/http"
	"sync"

	"github.com/labstack/echo/v4"
	"golang.org/x/time/rate"
)

// Rates limits how many requests each person, and each address that is nobody's, may send.
type Rates struct {
	perSecond int
	mu        sync.Mutex
	of        map[string]*rate.Limiter
}

// atOnce is for how many seconds' requests one may send at once.
const atOnce = 5

// mostSenders is of how many it is known how much they sent.
const mostSenders = 10_000

// NewRates returns the limits of so many requests a second; 0 for any number.
func NewRates(perSecond int) *Rates {
	return &Rates{perSecond: perSecond, of: map[string]*rate.Limiter{}}
}

// Allow reports whether a sender may send one more request now.
func (r *Rates) Allow(sender string) bool {
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

// TooMany answers a request that may not be sent now.
func TooMany(c echo.Context) error {
	c.Response().Header().Set("Retry-After", "1")
	return echo.NewHTTPError(http.StatusTooManyRequests, "too many requests; wait a second")
}
