// Package server is the HTTP interface: routes, limits and errors. What is
// answered is worked out in package app; openapi.yaml beside this file says how
// it looks, and is the source of the browser's client.
package server

import (
	"context"
	_ "embed"
	"errors"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/labstack/echo/v4"
	"github.com/labstack/echo/v4/middleware"
	"golang.org/x/net/netutil"

	"bivium/core/limits"
	"bivium/internal/app"
)

// Specification is the OpenAPI description of the interface.
//
//go:embed openapi.yaml
var Specification []byte

// Config is what a server needs.
type Config struct {
	App   *app.App
	Files fs.FS // the front end; index.html may be missing
	Log   *slog.Logger
	Demo  []byte // the document that a newcomer may look at
}

// shutdownGrace is how long requests under way may go on after a stop.
const shutdownGrace = 5 * time.Second

// New returns the handler for everything that is served.
func New(c Config) http.Handler {
	if c.App == nil || c.Log == nil || c.Files == nil {
		panic("server: Config.App, Files and Log must be given")
	}
	e := echo.New()
	e.HideBanner, e.HidePort = true, true
	e.HTTPErrorHandler = problemHandler(c.Log)
	e.Use(
		ownRequestID,
		middleware.RequestIDWithConfig(middleware.RequestIDConfig{RequestIDHandler: func(echo.Context, string) {}}),
		newPauses().watch,
		requestLog(c.Log),
		middleware.RecoverWithConfig(middleware.RecoverConfig{LogErrorFunc: logPanic(c.Log)}),
		localHost,
		sameOrigin,
		knownKind,
		securityHeaders(),
		middleware.BodyLimitWithConfig(middleware.BodyLimitConfig{Limit: bytesOf(limits.BodyBytes), Skipper: imports}),
	)
	gzip := middleware.GzipWithConfig(middleware.GzipConfig{MinLength: fewestPacked})
	h, q, a := &handlers{c.App, c.Demo}, newQueues(c.App), newAnswers()
	looks := e.Group("/api")
	see := func(path string, l look) { looks.GET(path, a.to(c.App.Now, l)) }
	see("/estate", getEstate)
	see("/complete", complete)
	see("/ask", ask)
	see("/trace", trace)
	see("/board", getBoard)
	see("/cells", getCells)
	see("/cell", getCell)
	see("/issues", h.getIssues)
	see("/rules", getRules)
	see("/object", getObject)
	see("/lanes", h.getLanes)
	see("/routes", getRoutes)
	see("/undo", h.getUndo)
	see("/tags", getTags)
	see("/members", getMembers)
	api := e.Group("/api", noStore, gzip)
	e.GET("/api/suggest", h.suggest, noStore, q.trial)
	api.POST("/edit/try", h.tryEdit, q.trial)
	api.POST("/edit", h.postEdit)
	api.GET("/accounts", h.getAccounts)
	api.POST("/accounts", h.connect)
	api.DELETE("/accounts/:name", h.disconnect)
	api.POST("/accounts/:name/reading", h.startReading)
	api.DELETE("/accounts/:name/reading", h.stopReading)
	api.POST("/accounts/:name/health", h.askHealth)
	api.POST("/networks/:name/rules", h.askNativeRules)
	api.POST("/states", h.askStates)
	api.GET("/sessions", h.getSessions)
	api.POST("/undo", h.postUndo)
	api.PUT("/aside/:id", h.putAside)
	api.DELETE("/aside/:id", h.deleteAside)
	api.POST("/rows", h.getRows)
	api.GET("/sheet", h.getSheet)
	api.PUT("/tags", h.putTags)
	api.POST("/tags/try", h.tryTags, q.trial)
	api.PUT("/workloads/:name/labels", h.putLabels)
	longer := middleware.BodyLimit(bytesOf(limits.DocumentBytes))
	api.POST("/import", h.postImport, longer, q.document)
	api.POST("/import/try", h.tryImport, longer, q.document)
	api.POST("/demo", h.postDemo, q.document)
	api.GET("/export", h.export)
	api.GET("/openapi.yaml", func(c echo.Context) error { return c.Blob(http.StatusOK, "application/yaml", Specification) })
	api.Any("/*", func(echo.Context) error { return echo.ErrNotFound })
	e.GET("/healthz", func(c echo.Context) error { return c.String(http.StatusOK, "ok\n") })
	e.GET("/*", frontEnd(c.Files), gzip)
	return e
}

// bytesOf writes a size as the framework reads it.
func bytesOf(n int) string { return strconv.Itoa(n) + "B" }

// imports reports whether a request brings a document.
func imports(c echo.Context) bool { return strings.HasPrefix(c.Request().URL.Path, "/api/import") }

// Serve answers on a listener until ctx ends, and then lets the requests under
// way finish.
func Serve(ctx context.Context, l net.Listener, h http.Handler) error {
	s := &http.Server{
		Handler: h, ReadHeaderTimeout: limits.HeaderTime, ReadTimeout: limits.ReadTime, WriteTimeout: limits.WriteTime,
		IdleTimeout: limits.IdleTime, MaxHeaderBytes: limits.HeaderBytes,
	}
	l = netutil.LimitListener(l, limits.Connections)
	done := make(chan error, 1)
	go func() { done <- s.Serve(l) }()
	select {
	case err := <-done:
		return err
	case <-ctx.Done():
	}
	grace, cancel := context.WithTimeout(context.WithoutCancel(ctx), shutdownGrace)
	defer cancel()
	err := s.Shutdown(grace)
	if served := <-done; !errors.Is(served, http.ErrServerClosed) {
		err = errors.Join(err, served)
	}
	return err
}
