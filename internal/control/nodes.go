package control

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"gerastic.example/client"

	"gerastic/internal/core/meter"
	"gerastic/internal/gate"
	"gerastic/internal/records"
)

func (c *Control) nodeCalls() {
	huma.Register(c.api, operation("list-nodes", http.MethodGet, "/v1/nodes", "List the nodes", records.Read),
		func(ctx context.Context, _ *struct{}) (*struct {
			Body struct {
				Nodes []client.Node `json:"nodes"`
			}
		}, error) {
			out := &struct {
				Body struct {
					Nodes []client.Node `json:"nodes"`
				}
			}{}
			own := c.node.Status()
			own.Seen = c.now()
			out.Body.Nodes = []client.Node{own}
			for _, n := range c.node.Others(ctx) {
				out.Body.Nodes = append(out.Body.Nodes, client.Node{Node: n.Name, Control: n.Control, Started: n.Started, Seen: n.Seen, Sequence: uint64(n.Applied), Degraded: n.Trouble})
			}
			return out, nil
		})
}

// metrics writes the node's counters in OpenMetrics form.
func (c *Control) metrics() http.Handler {
	registry := prometheus.NewRegistry()
	registry.MustRegister(&collector{c})
	return promhttp.HandlerFor(registry, promhttp.HandlerOpts{EnableOpenMetrics: true})
}

// collector reads the meter when asked, so that nothing is counted twice.
type collector struct{ c *Control }

var (
	requestsTotal  = desc("gerastic_requests_total", "Requests answered, by how they ended.", "route", "outcome", "cause")
	bytesTotal     = desc("gerastic_response_bytes_total", "Body bytes sent to visitors.", "route", "outcome")
	originTotal    = desc("gerastic_origin_requests_total", "Requests made to origins.", "route")
	originSeconds  = desc("gerastic_origin_seconds_total", "Time that origins took.", "route")
	primedTotal    = desc("gerastic_primed_total", "Origin requests of what was asked for before a visitor did.", "route")
	savedSeconds   = desc("gerastic_origin_saved_seconds_total", "Origin time saved: the fill cost of each answer that needed no origin.", "route")
	latencySeconds = desc("gerastic_request_seconds", "Time from the request read to the answer written.", "route", "outcome")
	removedTotal   = desc("gerastic_entries_removed_total", "Entries that left the store.", "reason")
	refusedTotal   = desc("gerastic_entries_refused_total", "Answers that did not fit into the store.")
	entriesGauge   = desc("gerastic_entries", "Entries stored.")
	usedGauge      = desc("gerastic_memory_used_bytes", "Bytes of memory that the store uses, everything counted.")
	limitGauge     = desc("gerastic_memory_limit_bytes", "Bytes of memory that the store may use.")
	tierBytes      = desc("gerastic_store_bytes", "Bytes of the entries that a tier has, with their coded forms.", "tier")
	tierLimit      = desc("gerastic_store_limit_bytes", "Bytes that a tier may take.", "tier")
	tierEntries    = desc("gerastic_store_entries", "Entries that a tier has.", "tier")
	tierRemoved    = desc("gerastic_store_removed_total", "Entries that left a tier.", "tier", "reason")
	memoryGauge    = desc("gerastic_memory_bytes", "What the resident memory of the process consists of.", "class")
	diskTaken      = desc("gerastic_disk_taken_bytes", "What the tier on disk takes of its device, everything counted.")
	diskWritten    = desc("gerastic_disk_written_bytes_total", "Bytes written to the tier on disk.")
	diskRefused    = desc("gerastic_disk_refused_total", "Entries that stayed off the disk: the write budget was spent, or there was no room.")
	diskErrors     = desc("gerastic_disk_errors_total", "What could not be read or written on disk, or was not as it had been written.")
	sequenceGauge  = desc("gerastic_ledger_sequence", "Last purge applied.")
	marksGauge     = desc("gerastic_marks", "Purges kept apart.")
	foldedTotal    = desc("gerastic_marks_folded_total", "Times that the limit of marks was hit and everything older counted as purged.")
	fillsGauge     = desc("gerastic_fills_running", "Fills that can be joined.")
	leasesGauge    = desc("gerastic_leases", "Leases out: fragments that applications are filling.")
	leasesRefused  = desc("gerastic_leases_refused_total", "Times that no lease was given because too many were out.")
	openGauge      = desc("gerastic_connections", "Connections open.", "listener")
	placesGauge    = desc("gerastic_connections_limit", "Connections that there may be at a time.", "listener")
	closedTotal    = desc("gerastic_connections_closed_total", "Connections that were closed: crowded (their address had too many), slow (their peer did not read), resting (another needed the place).", "listener", "why")
	onwardBehind   = desc("gerastic_onward_behind", "Purges that a cache or service beyond has not been told.", "target")
	degradedGauge  = desc("gerastic_degraded", "1 while the node has to do without something.")
)

func desc(name, help string, labels ...string) *prometheus.Desc {
	return prometheus.NewDesc(name, help, labels, nil)
}

func (m *collector) Describe(ch chan<- *prometheus.Desc) {
	for _, d := range []*prometheus.Desc{requestsTotal, bytesTotal, originTotal, originSeconds, savedSeconds, primedTotal, latencySeconds, removedTotal, refusedTotal,
		entriesGauge, usedGauge, limitGauge, tierBytes, tierLimit, tierEntries, tierRemoved, memoryGauge, diskTaken, diskWritten, diskRefused, diskErrors, sequenceGauge, marksGauge, foldedTotal, fillsGauge, leasesGauge, leasesRefused, openGauge, placesGauge, closedTotal, onwardBehind, degradedGauge} {
		ch <- d
	}
}

// latencyBounds are the histogram's bounds in the metrics: every fourth bucket.
const latencyStep = 4

func (m *collector) Collect(ch chan<- prometheus.Metric) {
	out := metrics(ch)
	m.requests(out)
	m.store(out)
	m.node(out)
}

// metrics takes what is collected.
type metrics chan<- prometheus.Metric

func (ch metrics) counter(d *prometheus.Desc, v float64, labels ...string) {
	ch <- prometheus.MustNewConstMetric(d, prometheus.CounterValue, v, labels...)
}

func (ch metrics) gauge(d *prometheus.Desc, v float64, labels ...string) {
	ch <- prometheus.MustNewConstMetric(d, prometheus.GaugeValue, v, labels...)
}

// requests are the figures of what was asked for, and of what origins were.
func (m *collector) requests(out metrics) {
	type ends struct{ route, outcome, cause string }
	requests := map[ends]int64{}
	routes := map[string]*meter.Ratio{}
	outcomes := map[[2]string]*meter.Cell{}
	for k, cell := range m.c.meter.Totals() {
		if routes[k.Route] == nil {
			routes[k.Route] = &meter.Ratio{}
		}
		routes[k.Route].Count(k, cell)
		if k.Outcome >= meter.Behind {
			continue
		}
		requests[ends{k.Route, k.Outcome.String(), k.Cause.String()}] += cell.Requests
		by := [2]string{k.Route, k.Outcome.String()}
		if outcomes[by] == nil {
			outcomes[by] = &meter.Cell{}
		}
		outcomes[by].Add(cell)
	}
	for e, n := range requests {
		out.counter(requestsTotal, float64(n), e.route, e.outcome, e.cause)
	}
	for by, cell := range outcomes {
		out.counter(bytesTotal, float64(cell.Bytes), by[0], by[1])
		out <- latency(cell, by)
	}
	for route, sums := range routes {
		out.counter(originTotal, float64(sums.OriginRequests), route)
		out.counter(originSeconds, sums.OriginTime.Seconds(), route)
		out.counter(savedSeconds, sums.Saved.Seconds(), route)
		out.counter(primedTotal, float64(sums.Primed), route)
	}
}

// store are the figures of what is kept.
func (m *collector) store(out metrics) {
	figures := m.c.store.Figures()
	for reason, n := range figures.Removed {
		out.counter(removedTotal, float64(n), reason)
		out.counter(tierRemoved, float64(n), "memory", reason)
	}
	out.counter(refusedTotal, float64(figures.Refused))
	out.gauge(entriesGauge, float64(figures.Entries))
	out.gauge(usedGauge, float64(figures.Used))
	out.gauge(limitGauge, float64(figures.Limit))
	out.gauge(tierBytes, float64(figures.Kept), "memory")
	out.gauge(tierLimit, float64(figures.Limit), "memory")
	out.gauge(tierEntries, float64(figures.Entries), "memory")
	below, _ := m.c.store.LowerFigures() // without a tier on disk its figures are 0
	for reason, n := range below.Removed {
		out.counter(tierRemoved, float64(n), "disk", reason)
	}
	out.gauge(tierBytes, float64(below.Bytes), "disk")
	out.gauge(tierLimit, float64(below.Limit), "disk")
	out.gauge(tierEntries, float64(below.Entries), "disk")
	out.gauge(diskTaken, float64(below.Taken))
	out.counter(diskWritten, float64(below.Written))
	out.counter(diskRefused, float64(below.Refused))
	out.counter(diskErrors, float64(below.Errors))
	for _, class := range m.c.node.Memory() {
		out.gauge(memoryGauge, float64(class.Bytes), class.Name)
	}
	leases := m.c.node.Fragments().Leases
	out.gauge(leasesGauge, float64(leases.Len()))
	out.counter(leasesRefused, float64(leases.Refused()))
}

// node are the figures of the node itself: its place in the ledger, its fills, its connections.
func (m *collector) node(out metrics) {
	status := m.c.node.Status()
	out.gauge(sequenceGauge, float64(status.Sequence))
	out.gauge(marksGauge, float64(status.Marks))
	out.gauge(fillsGauge, float64(status.FillsRunning))
	out.counter(foldedTotal, float64(m.c.barrier.FloorRaised()))
	edge, control := m.c.node.Listeners()
	for name, f := range map[string]gate.Figures{"edge": edge, "control": control} {
		out.gauge(openGauge, float64(f.Open), name)
		out.gauge(placesGauge, float64(f.Limit), name)
		out.counter(closedTotal, float64(f.Refused), name, "crowded")
		out.counter(closedTotal, float64(f.Slow), name, "slow")
		out.counter(closedTotal, float64(f.Ended), name, "resting")
	}
	for _, o := range m.c.node.Onward().Seen() {
		out.gauge(onwardBehind, float64(o.Behind), o.Name)
	}
	degraded := 0.0
	if status.Degraded != "" {
		degraded = 1
	}
	out.gauge(degradedGauge, degraded)
}

func latency(cell *meter.Cell, by [2]string) prometheus.Metric {
	bounds := map[float64]uint64{}
	var seen uint64
	var sum float64
	for i, n := range cell.Latency {
		seen += uint64(n)
		sum += float64(n) * meter.UpperBound(i).Seconds()
		if (i+1)%latencyStep == 0 {
			bounds[meter.UpperBound(i).Seconds()] = seen
		}
	}
	return prometheus.MustNewConstHistogram(latencySeconds, seen, sum, bounds, by[0], by[1])
}
