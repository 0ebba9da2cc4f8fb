package server

import (
	"log/slog"
	"mime"
	"net"
	"net/http"
	"net/netip"
	"slices"
	"strings"
	"time"

	"github.com/labstack/echo/v4"

	"bivium/core/limits"
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

// ownRequestID forgets the id that a request brings: it would stand in logs, as long as
// its sender likes.
func ownRequestID(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c echo.Context) error {
		c.Request().Header.Del(echo.HeaderXRequestID)
		return next(c)
	}
}

func requestID(c echo.Context) string { return c.Response().Header().Get(echo.HeaderXRequestID) }

func logPanic(log *slog.Logger) func(echo.Context, error, []byte) error {
	return func(c echo.Context, err error, stack []byte) error {
		if limits.Of(err) != nil {
			return err
		}
		log.Error("panic", "id", requestID(c), "error", err, "stack", string(stack))
		return err
	}
}

// knownHost refuses requests whose Host is a name other than localhost and some others.
// Without it, a page of somebody else's could point a name of its own at this address, and
// read and write as if it were served from here.
func knownHost(names []string) echo.MiddlewareFunc {
	return func(next echo.HandlerFunc) echo.HandlerFunc {
		return func(c echo.Context) error {
			host, _, err := net.SplitHostPort(c.Request().Host)
			if err != nil {
				host = strings.TrimSuffix(strings.TrimPrefix(c.Request().Host, "["), "]")
			}
			known := strings.EqualFold(host, "localhost") || slices.ContainsFunc(names, func(n string) bool { return strings.EqualFold(n, host) })
			if _, err := netip.ParseAddr(host); err != nil && !known {
				return echo.NewHTTPError(http.StatusMisdirectedRequest, "this server answers only to IP addresses, localhost, and the names given with --name")
			}
			return next(c)
		}
	}
}

// sameOrigin refuses writes that a page of another origin sends. Without it,
// any page that a user looks at could change the estate.
func sameOrigin(next echo.HandlerFunc) echo.HandlerFunc {
	protection := http.NewCrossOriginProtection()
	return func(c echo.Context) error {
		if err := protection.Check(c.Request()); err != nil {
			return echo.NewHTTPError(http.StatusForbidden, "requests from other origins cannot change anything").SetInternal(err)
		}
		return next(c)
	}
}

// knownKind refuses bodies that are neither JSON nor, where a document is asked for, YAML.
func knownKind(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c echo.Context) error {
		if m := c.Request().Method; m == http.MethodGet || m == http.MethodHead {
			return next(c)
		}
		kind, _, err := mime.ParseMediaType(c.Request().Header.Get(echo.HeaderContentType))
		if err != nil || kind != echo.MIMEApplicationJSON && !(kind == "application/yaml" && imports(c)) {
			return echo.NewHTTPError(http.StatusUnsupportedMediaType, "send JSON, as application/json; a document as application/yaml")
		}
		return next(c)
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
