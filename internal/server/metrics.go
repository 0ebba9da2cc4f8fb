package server

import (
	"net/http"
	"strconv"
	"time"

	"github.com/labstack/echo/v4"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"bivium/internal/app"
	"bivium/internal/app/drafts"
)

// gauges are what a monitoring system reads of the server, in the OpenMetrics format.
type gauges struct {
	registry *prometheus.Registry
	took     *prometheus.HistogramVec
}

func newGauges(a *app.App, d *drafts.Desk) *gauges {
	m := &gauges{registry: prometheus.NewRegistry(), took: prometheus.NewHistogramVec(prometheus.HistogramOpts{
		Name: "bivium_request_seconds", Help: "How long requests took, by operation and status.",
		Buckets: []float64{.005, .025, .1, .25, 1, 5, 30},
	}, []string{"method", "path", "status"})}
	gauge := func(name, help string, f func() float64) prometheus.GaugeFunc {
		return prometheus.NewGaugeFunc(prometheus.GaugeOpts{Name: name, Help: help}, f)
	}
	m.registry.MustRegister(
		m.took, collectors.NewGoCollector(), collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}),
		gauge("bivium_revision", "The revision of the applied estate.", func() float64 { return float64(a.Now().Revision) }),
		gauge("bivium_workloads", "Workloads of the applied estate.", func() float64 { return float64(len(a.Now().Estate.Workloads)) }),
		gauge("bivium_faults", "Faults of the applied estate.", func() float64 { return float64(len(a.Now().Faults)) }),
		gauge("bivium_drafts", "Drafts that are open, in review or approved.", func() float64 { return float64(d.Open()) }),
	)
	return m
}

// watch is middleware that measures requests.
func (m *gauges) watch(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c echo.Context) error {
		start := time.Now()
		err := next(c)
		status := c.Response().Status
		if err != nil {
			status = problemOf(err).Status
		}
		m.took.WithLabelValues(c.Request().Method, c.Path(), strconv.Itoa(status)).Observe(time.Since(start).Seconds())
		return err
	}
}

func (m *gauges) handler() http.Handler {
	return promhttp.HandlerFor(m.registry, promhttp.HandlerOpts{EnableOpenMetrics: true})
}
