package server

import (
	"fmt"
	"net/http"
	"slices"
	"strings"

	"github.com/labstack/echo/v4"
	"go.yaml.in/yaml/v3"

	"bivium/internal/people"
	"bivium/internal/server/pressure"
)

// anyone is what an operation needs that answers whoever asks: signing in.
const anyone = "anyone"

// access lets those pass who may: openapi.yaml says of each operation which roles it needs
// (x-needs), and what it does not say is refused.
type access struct {
	people   *people.Register
	sessions *sessions
	rates    *pressure.Rates
	needs    map[string][]people.Role // by method and path, as the framework writes it; nil for whoever asks
}

func newAccess(register *people.Register, s *sessions, rate int) *access {
	var spec struct {
		Paths map[string]map[string]yaml.Node `yaml:"paths"`
	}
	if err := yaml.Unmarshal(Specification, &spec); err != nil {
		panic(fmt.Sprintf("server: openapi.yaml: %v", err))
	}
	a := &access{register, s, pressure.NewRates(rate), map[string][]people.Role{}}
	slashes := strings.NewReplacer("{", ":", "}", "")
	for path, operations := range spec.Paths {
		for method, node := range operations {
			if method == "parameters" {
				continue
			}
			var o struct {
				Needs []people.Role `yaml:"x-needs"`
			}
			if err := node.Decode(&o); err != nil {
				panic(fmt.Sprintf("server: openapi.yaml: %v", err))
			}
			key := strings.ToUpper(method) + " " + slashes.Replace(path)
			switch {
			case len(o.Needs) == 0:
				panic("server: openapi.yaml does not say who may " + key)
			case o.Needs[0] == anyone:
				o.Needs = nil
			}
			a.needs[key] = o.Needs
		}
	}
	return a
}

// whoKey is where a request keeps who sent it.
const whoKey = "who"

// whoOf returns who sent a request.
func whoOf(c echo.Context) *people.Who { return c.Get(whoKey).(*people.Who) } //nolint:forcetypeassert // access sees to it

// check is middleware for all of the interface.
func (a *access) check(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c echo.Context) error {
		needs, known := a.needs[c.Request().Method+" "+c.Path()]
		if known && needs == nil {
			if !a.rates.Allow("address " + c.RealIP()) {
				return pressure.TooMany(c)
			}
			return next(c)
		}
		who, err := a.identify(c)
		if err != nil {
			return err
		}
		sender := "address " + c.RealIP()
		if who != nil {
			sender = "person " + who.Name
		}
		if !a.rates.Allow(sender) {
			return pressure.TooMany(c)
		}
		if who == nil {
			return echo.NewHTTPError(http.StatusUnauthorized, "sign in, or send a token that is valid")
		}
		c.Set(whoKey, who)
		if !known {
			return echo.ErrNotFound
		}
		for _, role := range needs {
			if !who.May(role) {
				return a.refuse(c, who, role)
			}
		}
		return next(c)
	}
}

// identify returns who sent a request, by token or session; nil for nobody who is known.
func (a *access) identify(c echo.Context) (*people.Who, error) {
	r := c.Request()
	if secret, ok := strings.CutPrefix(r.Header.Get(echo.HeaderAuthorization), "Bearer "); ok {
		return a.people.ByToken(r.Context(), secret, c.RealIP())
	}
	name, err := a.sessions.person(c)
	if name == "" || err != nil {
		return nil, err
	}
	return a.people.Known(name, c.RealIP()), nil
}

// refuse logs that somebody may not do something, and says who may.
func (a *access) refuse(c echo.Context, who *people.Who, role people.Role) error {
	what := c.Request().Method + " " + c.Request().URL.Path
	if err := a.people.Audit().Add(c.Request().Context(), who, "refused", what, "needs the role "+string(role)); err != nil {
		return err
	}
	return echo.NewHTTPError(http.StatusForbidden, a.needed(role))
}

// needed says that a role is needed, and who has it.
func (a *access) needed(role people.Role) string {
	text := fmt.Sprintf("this needs the role %s", role)
	var have []string
	for _, p := range a.people.All() {
		if p.Active && slices.ContainsFunc(p.Grants, func(g people.Grant) bool { return g.Role == role }) {
			have = append(have, p.Called)
		}
	}
	switch {
	case len(have) == 0:
		return text + ", which no person has; an administrator can give it"
	case len(have) > 5:
		have = append(have[:4], fmt.Sprintf("%d more", len(have)-4))
	}
	return text + "; those who have it: " + strings.Join(have, ", ")
}
