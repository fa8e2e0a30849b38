package export

import (
	"fmt"
	"net"
	"net/http"
	"strings"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"tidepull/internal/measure/logbook"
	"tidepull/internal/measure/meter"
	"tidepull/internal/run"
)

// Metrics serves a run's figures to Prometheus while it goes on, at
// http://ADDR/metrics. Each scrape reads the snapshot of that moment.
func Metrics(addr string, snapshot func() *run.Snapshot) (stop func(), err error) {
	ln, err := net.Listen("tcp", addr)
	if err != nil {
		return nil, fmt.Errorf("--metrics: %w", err)
	}
	registry := prometheus.NewRegistry()
	registry.MustRegister(&collector{snapshot: snapshot})
	mux := http.NewServeMux()
	mux.Handle("/metrics", promhttp.HandlerFor(registry, promhttp.HandlerOpts{}))
	server := &http.Server{Handler: mux, ReadHeaderTimeout: 5 * time.Second}
	done := make(chan struct{})
	go func() {
		defer close(done)
		_ = server.Serve(ln) // ends when it is closed
	}()
	return func() {
		server.Close()
		<-done
	}, nil
}

// A collector turns every figure of a run into a metric of its own.
type collector struct{ snapshot func() *run.Snapshot }

// Describe says nothing beforehand: which metrics there are follows from what
// was measured.
func (c *collector) Describe(chan<- *prometheus.Desc) {}

// Collect implements prometheus.Collector.
func (c *collector) Collect(out chan<- prometheus.Metric) {
	s := c.snapshot()
	w := s.Total
	send := func(name, help string, kind prometheus.ValueType, v float64, labels ...string) {
		var names, values []string
		for i := 0; i+1 < len(labels); i += 2 {
			names, values = append(names, labels[i]), append(values, labels[i+1])
		}
		out <- prometheus.MustNewConstMetric(prometheus.NewDesc("tidepull_"+name, help, names, nil), kind, v, values...)
	}
	g := logbook.Gauges{}
	if n := len(s.Entries); n > 0 {
		g = s.Entries[n-1].Gauges
	}
	send("clients", "clients, by state", prometheus.GaugeValue, float64(g.Planned), "state", "planned")
	send("clients", "clients, by state", prometheus.GaugeValue, float64(g.Open), "state", "open")
	for _, name := range logbook.FigureNames() {
		f := logbook.FigureNamed(name)
		v, _ := f.Of(w)
		switch f.Unit {
		case logbook.Count:
			send(strings.ReplaceAll(name, ".", "_")+"_total", f.Doc, prometheus.CounterValue, v)
		case logbook.Ratio:
			send(strings.ReplaceAll(name, ".", "_"), f.Doc, prometheus.GaugeValue, v)
		}
	}
	hists := map[string]*meter.Hist{"fanout": w.Fanout(), "first": &w.First, "median": &w.Median, "last": &w.Last}
	for d := range w.Times {
		name := strings.TrimPrefix(logbook.Dist(d).String(), "self.")
		hists[strings.ReplaceAll(name, ".", "_")] = &w.Times[d]
	}
	for name, h := range hists {
		quantiles := map[float64]float64{}
		for _, q := range logbook.Quantiles {
			quantiles[q] = h.Quantile(q).Seconds()
		}
		out <- prometheus.MustNewConstSummary(prometheus.NewDesc("tidepull_"+name+"_seconds", "latency since the start",
			nil, nil), h.Count(), h.Mean().Seconds()*float64(h.Count()), quantiles)
	}
}
