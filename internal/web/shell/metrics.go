package shell

import (
	"context"
	"time"

	"github.com/labstack/echo/v5"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"duskyharbor/internal/store"
)

// metrics is what Prometheus reads of this server and, for the token's site, of the
// work: one query a scrape for each family, nothing is kept in memory.
type metrics struct {
	store *store.Store
	own   *prometheus.Registry
	took  *prometheus.HistogramVec
}

func newMetrics(st *store.Store) *metrics {
	m := &metrics{store: st, own: prometheus.NewRegistry()}
	m.took = prometheus.NewHistogramVec(prometheus.HistogramOpts{Name: "duskyharbor_request_seconds",
		Help: "Time to answer a request.", Buckets: []float64{.005, .01, .025, .05, .1, .25, .5, 1, 2.5, 10}}, []string{"method", "class"})
	m.own.MustRegister(m.took, collectors.NewGoCollector(), collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}))
	return m
}

func (m *metrics) serve(c *echo.Context) error {
	site := prometheus.NewRegistry()
	site.MustRegister(&siteCollector{store: m.store, site: TokenOf(c).SiteID, ctx: c.Request().Context()})
	promhttp.HandlerFor(prometheus.Gatherers{m.own, site},
		promhttp.HandlerOpts{Timeout: 5 * time.Second}).ServeHTTP(c.Response(), c.Request())
	return nil
}

// siteCollector reads one site's figures when it is asked for them.
type siteCollector struct {
	store *store.Store
	site  int64
	ctx   context.Context
}

var (
	marksDesc   = prometheus.NewDesc("duskyharbor_marks", "Sources by stage and state.", []string{"stage", "state"}, nil)
	stepsDesc   = prometheus.NewDesc("duskyharbor_steps_open", "Steps of runs that are under way, by state.", []string{"state"}, nil)
	changesDesc = prometheus.NewDesc("duskyharbor_changes", "Changes by state.", []string{"state"}, nil)
	serversDesc = prometheus.NewDesc("duskyharbor_servers", "Servers of this database heard within 15 s.", nil, nil)
	poolDesc    = prometheus.NewDesc("duskyharbor_database_connections", "Connections of this server's pool, by state.",
		[]string{"state"}, nil)
	waitsDesc  = prometheus.NewDesc("duskyharbor_database_waits_total", "How often a connection of this server's pool had to be waited for.", nil, nil)
	waitedDesc = prometheus.NewDesc("duskyharbor_database_waited_seconds_total", "For how long connections of this server's pool were waited for.", nil, nil)
	upDesc     = prometheus.NewDesc("duskyharbor_database_up", "Whether the database answered.", nil, nil)
)

// Describe lists what Collect gives.
func (s *siteCollector) Describe(ch chan<- *prometheus.Desc) {
	for _, d := range []*prometheus.Desc{marksDesc, stepsDesc, changesDesc, serversDesc, poolDesc, waitsDesc, waitedDesc, upDesc} {
		ch <- d
	}
}

// Collect reads the figures; what can't be read is left out and database_up says 0.
func (s *siteCollector) Collect(ch chan<- prometheus.Metric) {
	gauge := func(d *prometheus.Desc, v float64, labels ...string) {
		ch <- prometheus.MustNewConstMetric(d, prometheus.GaugeValue, v, labels...)
	}
	up := 1.0
	if groups, err := s.store.Groups(s.ctx, s.site); err == nil {
		sums := map[[2]string]int{}
		for _, g := range groups {
			sums[[2]string{g.Stage.Slug(), string(g.State)}] += g.Count
		}
		for k, n := range sums {
			gauge(marksDesc, float64(n), k[0], k[1])
		}
	} else {
		up = 0
	}
	if f, err := s.store.Figures(s.ctx, s.site); err == nil {
		gauge(serversDesc, float64(f.Servers))
		for state, n := range f.Steps {
			gauge(stepsDesc, float64(n), state)
		}
		for state, n := range f.Changes {
			gauge(changesDesc, float64(n), state)
		}
	} else {
		up = 0
	}
	stat := s.store.Pool.Stat()
	gauge(poolDesc, float64(stat.AcquiredConns()), "used")
	gauge(poolDesc, float64(stat.IdleConns()), "idle")
	counter := func(d *prometheus.Desc, v float64) {
		ch <- prometheus.MustNewConstMetric(d, prometheus.CounterValue, v)
	}
	counter(waitsDesc, float64(stat.EmptyAcquireCount()))
	counter(waitedDesc, stat.EmptyAcquireWaitTime().Seconds())
	gauge(upDesc, up)
}
