package server

import (
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"time"

	"github.com/labstack/echo/v4"
)

// requestLog logs each request when it is done, one line, with its id.
func requestLog(log *slog.Logger) echo.MiddlewareFunc {
	return func(next echo.HandlerFunc) echo.HandlerFunc {
		return func(c echo.Context) error {
			start := time.Now()
			if err := next(c); err != nil {
				c.Error(err) // so that the status below is the one that was sent
			}
			log.LogAttrs(c.Request().Context(), slog.LevelInfo, "request",
				slog.String("id", requestID(c)), slog.String("method", c.Request().Method), slog.String("path", c.Request().URL.Path),
				slog.Int("status", c.Response().Status), slog.Int64("bytes", c.Response().Size), slog.Duration("took", time.Since(start)))
			return nil
		}
	}
}

func requestID(c echo.Context) string { return c.Response().Header().Get(echo.HeaderXRequestID) }

func logPanic(log *slog.Logger) func(echo.Context, error, []byte) error {
	return func(c echo.Context, err error, stack []byte) error {
		log.Error("panic", "id", requestID(c), "error", err, "stack", string(stack))
		return err
	}
}

// localHost refuses requests whose Host is a name other than localhost.
// Without it, a page of somebody else's could point a name of its own at
// this address, and read and write as if it were served from here.
func localHost() echo.MiddlewareFunc {
	return func(next echo.HandlerFunc) echo.HandlerFunc {
		return func(c echo.Context) error {
			host, _, err := net.SplitHostPort(c.Request().Host)
			if err != nil {
				host = c.Request().Host
			}
			if _, err := netip.ParseAddr(host); err != nil && host != "localhost" {
				return echo.NewHTTPError(http.StatusMisdirectedRequest, "this server answers to addresses and to localhost only")
			}
			return next(c)
		}
	}
}

// sameOrigin refuses writes that a page of another origin sends. Without it,
// any page that a user looks at could change the estate.
func sameOrigin() echo.MiddlewareFunc {
	return func(next echo.HandlerFunc) echo.HandlerFunc {
		return func(c echo.Context) error {
			r := c.Request()
			if r.Method == http.MethodGet || r.Method == http.MethodHead {
				return next(c)
			}
			if origin := r.Header.Get(echo.HeaderOrigin); origin != "" {
				if u, err := url.Parse(origin); err != nil || u.Host != r.Host {
					return echo.NewHTTPError(http.StatusForbidden, "a page of another origin cannot write here")
				}
			}
			if site := r.Header.Get("Sec-Fetch-Site"); site != "" && site != "same-origin" && site != "none" {
				return echo.NewHTTPError(http.StatusForbidden, "a page of another site cannot write here")
			}
			kind := r.Header.Get(echo.HeaderContentType)
			if kind != echo.MIMEApplicationJSON && !(kind == "application/yaml" && imports(c)) {
				return echo.NewHTTPError(http.StatusUnsupportedMediaType, "send JSON, as application/json; a document as application/yaml")
			}
			return next(c)
		}
	}
}

// securityHeaders lets the page load what the server ships, and nothing else.
func securityHeaders() echo.MiddlewareFunc {
	const policy = "default-src 'none'; script-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; font-src 'self'; " +
		"connect-src 'self'; manifest-src 'self'; base-uri 'none'; form-action 'none'; frame-ancestors 'none'"
	return func(next echo.HandlerFunc) echo.HandlerFunc {
		return func(c echo.Context) error {
			h := c.Response().Header()
			h.Set("Content-Security-Policy", policy)
			h.Set("X-Content-Type-Options", "nosniff")
			h.Set("Referrer-Policy", "no-referrer")
			h.Set("Cross-Origin-Opener-Policy", "same-origin")
			h.Set("Cross-Origin-Resource-Policy", "same-origin")
			return next(c)
		}
	}
}

// noStore keeps answers out of caches: an old answer is a wrong one.
func noStore(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c echo.Context) error {
		c.Response().Header().Set("Cache-Control", "no-store")
		return next(c)
	}
}
