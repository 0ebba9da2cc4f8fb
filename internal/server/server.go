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
	"bivium/internal/app/applying"
	"bivium/internal/app/drafts"
	"bivium/internal/app/history"
	"bivium/internal/app/packets"
	"bivium/internal/app/targets"
	"bivium/internal/app/watch"
	"bivium/internal/notices"
	"bivium/internal/people"
	"bivium/internal/server/pressure"
	"bivium/internal/store"
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

	People   *people.Register
	Drafts   *drafts.Desk
	History  *history.History
	Targets  *targets.Books    // nil for new ones
	Notices  *notices.Service  // nil for one that sends nothing
	Watch    *watch.Service    // nil for one that looks at nothing by itself
	Applying *applying.Service // nil for one that was not started
	Store    *store.Store      // of sessions
	Names    []string          // hosts by which browsers know the server, besides localhost
	Rate     int               // how many requests a second a person or address may send for long; 0 for any
	Proxied  bool              // a proxy in front says from where requests come
	Provider *Provider         // who vouches for people; nil for nobody
}

// withApplying gives a server that was given none what writes to targets, at rest.
func (c *Config) withApplying() {
	if c.Targets == nil {
		c.Targets = &targets.Books{}
	}
	if c.Notices == nil {
		c.Notices = notices.New(notices.Config{Store: c.Store, People: c.People, Log: c.Log, Clock: time.Now, Told: c.Drafts.Events.Noticed})
		c.Drafts.Notices = c.Notices
	}
	if c.Watch == nil {
		c.Watch = watch.New(watch.Config{App: c.App, Store: c.Store, Books: c.Targets, People: c.People, Notices: c.Notices, Log: c.Log, Clock: time.Now})
	}
	if c.Applying == nil {
		c.Applying = applying.New(applying.Config{App: c.App, Store: c.Store, Books: c.Targets, Audit: c.People.Audit(), Log: c.Log, Clock: time.Now, Told: c.Drafts.Events.Written})
	}
}

// shutdownGrace is how long requests under way may go on after a stop.
const shutdownGrace = 5 * time.Second

// New returns the handler for everything that is served.
func New(c Config) http.Handler {
	if c.App == nil || c.Log == nil || c.Files == nil || c.People == nil || c.Drafts == nil || c.History == nil || c.Store == nil {
		panic("server: Config.App, Files, Log, People, Drafts, History and Store must be given")
	}
	e := echo.New()
	m, kept := newGauges(c.App, c.Drafts), c
	e.HideBanner, e.HidePort = true, true
	if e.IPExtractor = echo.ExtractIPDirect(); c.Proxied {
		e.IPExtractor = echo.ExtractIPFromXFFHeader()
	}
	e.HTTPErrorHandler = problemHandler(c.Log)
	e.Use(
		ownRequestID,
		middleware.RequestIDWithConfig(middleware.RequestIDConfig{RequestIDHandler: func(echo.Context, string) {}}),
		newPauses().watch,
		m.watch,
		requestLog(c.Log),
		middleware.RecoverWithConfig(middleware.RecoverConfig{LogErrorFunc: logPanic(c.Log)}),
		knownHost(c.Names),
		sameOrigin,
		knownKind,
		securityHeaders(),
		middleware.BodyLimitWithConfig(middleware.BodyLimitConfig{Limit: bytesOf(limits.BodyBytes), Skipper: imports}),
	)
	gzip := middleware.GzipWithConfig(middleware.GzipConfig{MinLength: fewestPacked})
	c.withApplying()
	h, q, a := &handlers{app: c.App, drafts: c.Drafts, history: c.History, audit: c.People.Audit(), demo: c.Demo, targets: c.Targets, applying: c.Applying, watch: c.Watch, notices: c.Notices, closing: make(chan struct{})}, pressure.NewQueues(c.App), newAnswers()
	h.packets = packets.New(c.App, c.Store, c.Targets, time.Now, c.Applying.Why)
	sessions := newSessions(c.Store, time.Now)
	check := newAccess(c.People, sessions, c.Rate).check
	looks := e.Group("/api", check)
	see := func(path string, l look) { looks.GET(path, a.to(h.where, l)) }
	see("/estate", getEstate)
	see("/complete", complete)
	see("/ask", ask)
	see("/trace", trace)
	see("/board", getBoard)
	see("/cells", getCells)
	see("/cell", getCell)
	see("/issues", h.getIssues)
	see("/rules", getRules)
	see("/rules/deciding", getDeciding)
	see("/rules/decided", getDecided)
	see("/rules/scope", h.getScope)
	see("/failures", getFailures)
	see("/object", getObject)
	see("/lanes", h.getLanes)
	see("/routes", getRoutes)
	see("/targets", h.seen(getTargets))
	see("/targets/held", h.seen(getHeld))
	see("/targets/for", h.seen(getUses))
	see("/targets/proof", h.seen(getProof))
	see("/undo", h.getUndo)
	see("/tags", getTags)
	see("/members", getMembers)
	api := e.Group("/api", noStore, gzip, check)
	e.GET("/api/suggest", h.suggest, noStore, check, q.Trial)
	e.GET("/api/fixes", h.fixes, noStore, check, q.Trial)
	routePeople(api, &c, sessions)
	routeDrafts(api, h, q)
	e.GET("/api/events", h.events, noStore, check)
	api.POST("/edit/try", h.tryEdit, q.Trial)
	api.POST("/edit", h.postEdit)
	api.GET("/accounts", h.getAccounts)
	api.POST("/accounts", h.connect)
	api.DELETE("/accounts/:name", h.disconnect)
	api.POST("/accounts/:name/reading", h.startReading)
	api.DELETE("/accounts/:name/reading", h.stopReading)
	api.POST("/accounts/:name/health", h.askHealth)
	api.POST("/networks/:name/rules", h.askNativeRules)
	api.POST("/targets/look", h.lookAtTargets, q.Trial)
	api.POST("/targets/take-over", h.takeOver, q.Trial)
	api.GET("/outside", h.getOutside)
	api.POST("/outside", h.lookOutside, q.Trial)
	api.POST("/targets/observed", h.observe, q.Trial)
	api.POST("/targets/propose", h.propose, q.Trial)
	routePlans(api, h, q)
	routeNotices(api, h)
	routeWindows(api, h)
	api.POST("/states", h.askStates)
	api.GET("/sessions", h.getSessions)
	api.POST("/undo", h.postUndo)
	api.PUT("/aside/:id", h.putAside)
	api.DELETE("/aside/:id", h.deleteAside)
	api.POST("/rows", h.getRows)
	api.GET("/sheet", h.getSheet)
	api.POST("/tags/try", h.tryTags, q.Trial)
	longer := middleware.BodyLimit(bytesOf(limits.DocumentBytes))
	api.POST("/import", h.postImport, longer, q.Document)
	api.POST("/import/try", h.tryImport, longer, q.Document)
	api.POST("/demo", h.postDemo, q.Document)
	api.GET("/export", h.export)
	api.GET("/openapi.yaml", func(c echo.Context) error { return c.Blob(http.StatusOK, "application/yaml", Specification) })
	api.Any("/*", func(echo.Context) error { return echo.ErrNotFound })
	e.GET("/metrics", echo.WrapHandler(m.handler()), check)
	e.GET("/readyz", func(c echo.Context) error {
		if _, err := kept.Store.Revision(c.Request().Context()); err != nil {
			return echo.NewHTTPError(http.StatusServiceUnavailable, "the database does not answer").SetInternal(err)
		}
		return c.String(http.StatusOK, "ready\n")
	})
	e.GET("/healthz", func(c echo.Context) error { return c.String(http.StatusOK, "ok\n") })
	e.GET("/*", frontEnd(c.Files), gzip)
	return &handler{e, h.closing}
}

// handler answers requests, and ends the streams of events when it is told to stop.
type handler struct {
	http.Handler
	closing chan struct{}
}

func (h *handler) stop() { close(h.closing) }

// routeDrafts adds what has to do with drafts and history.
func routeDrafts(api *echo.Group, h *handlers, q *pressure.Queues) {
	api.GET("/drafts", h.getDrafts)
	api.POST("/drafts", h.postDraft)
	api.GET("/drafts/:id", h.getDraft, q.Trial)
	api.GET("/drafts/:id/findings", h.getDraftFindings, q.Trial)
	api.PUT("/drafts/:id", h.putDraft)
	api.POST("/drafts/:id/undo", h.undoDraft)
	api.POST("/drafts/:id/redo", h.redoDraft)
	api.POST("/drafts/:id/state", h.moveDraft)
	api.POST("/drafts/:id/conflict", h.resolveConflict)
	api.POST("/drafts/:id/approval", h.approveDraft)
	api.POST("/drafts/:id/application", h.applyDraft)
	api.POST("/drafts/:id/comments", h.commentDraft)
	api.PUT("/drafts/:id/comments/:comment", h.resolveComment)
	api.PUT("/drafts/:id/open", h.openInDraft)
	api.GET("/revisions", h.getRevisions)
	api.GET("/compare", h.compare, q.Trial)
	api.GET("/blame", h.blame, q.Trial)
	api.POST("/revisions/:number/roll-back", h.rollBack)
	api.POST("/revisions/:number/review", h.reviewLater)
}

// routePeople adds what has to do with people.
func routePeople(api *echo.Group, c *Config, kept *sessions) {
	s, d := &signIn{c.People, kept, nil}, &directory{c.People, kept}
	if c.Provider != nil {
		s.provider = &provider{Provider: *c.Provider}
	}
	api.GET("/sign-in", s.options)
	api.POST("/sign-in", s.byPassword)
	api.POST("/sign-in/demo", s.byDoor)
	api.POST("/sign-in/link", s.byLink)
	api.GET("/sign-in/oidc", s.toProvider, onPage)
	api.GET("/sign-in/oidc/back", s.fromProvider, onPage)
	api.POST("/sign-out", s.out)
	api.GET("/me", s.me)
	api.PUT("/me/password", s.changePassword)
	api.GET("/tokens", d.tokens)
	api.POST("/tokens", d.makeToken)
	api.DELETE("/tokens/:id", d.dropToken)
	api.GET("/people", d.list)
	api.PUT("/people/:name", d.put)
	api.POST("/people/:name/link", d.link)
	api.PUT("/teams/:name", d.putTeam)
	api.GET("/audit", d.audit)
	api.GET("/audit/export", d.exportAudit)
	api.GET("/audit/verify", d.verifyAudit)
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
	if ours, ok := h.(*handler); ok {
		s.RegisterOnShutdown(ours.stop)
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
