package api

import (
	"time"

	"github.com/gin-gonic/gin"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"nexocumula/internal/store/sqlite"
)

// metrics answers with how the service stands, in the form of OpenMetrics.
func (h handlers) metrics() gin.HandlerFunc {
	all := prometheus.NewRegistry()
	all.MustRegister(standing{h}, collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}))
	return gin.WrapH(promhttp.HandlerFor(all, promhttp.HandlerOpts{EnableOpenMetrics: true}))
}

// standing makes the metrics of what the service knows of itself, each time that they are asked for.
type standing struct{ handlers }

// metric is one of them.
type metric struct {
	*prometheus.Desc
	kind prometheus.ValueType
}

var metricNames []string

// MetricNames returns the names of all metrics that a service may have.
func MetricNames() []string { return metricNames }

func newMetric(kind prometheus.ValueType, name, says string, labels ...string) metric {
	metricNames = append(metricNames, "nexocumula_"+name)
	return metric{prometheus.NewDesc("nexocumula_"+name, says, labels, nil), kind}
}

func gauge(name, says string, labels ...string) metric {
	return newMetric(prometheus.GaugeValue, name, says, labels...)
}

// histogram makes one whose values have counts beside them, for which there is no kind.
func histogram(name, says string) metric { return newMetric(prometheus.UntypedValue, name, says) }

func counter(name, says string, labels ...string) metric {
	return newMetric(prometheus.CounterValue, name, says, labels...)
}

var (
	aboutService  = gauge("about", "1; version and site of the service", "version", "site")
	startedAt     = gauge("started_seconds", "When the service started, in seconds since 1970")
	isReady       = gauge("ready", "1 while the store can be read and written, else 0")
	troubleCount  = gauge("troubles", "How many troubles the health of the service lists")
	clockDoubt    = gauge("clock_in_doubt", "1 while the machine's clock is not believed, else 0")
	seriesCount   = gauge("series", "Series that are known")
	commitSeconds = histogram("commit_seconds", "How long transactions of the store took that are on disk")
	commitFailed  = counter("commits_failed_total", "Transactions of the store that failed, and were tried again or told to the sender")
	trayRows      = gauge("tray_rows", "Rows in the journal that are not in chunks yet")
	damagedRows   = gauge("damaged_rows", "Rows that could not be read and are set aside")
	droppedRows   = counter("dropped_rows_total", "Rows that retention dropped")
	roomRows      = counter("room_rows_total", "Rows that were dropped to make room on the disk")
	storeBytes    = gauge("store_bytes", "Bytes of the store's files")
	diskFreeBytes = gauge("disk_free_bytes", "Bytes that are free on the disk of the store")
	backupAt      = gauge("backup_seconds", "When the newest good backup was taken, in seconds since 1970; missing without one")

	acceptedReadings = counter("readings_accepted_total", "Readings on disk")
	rejectedReadings = counter("readings_rejected_total", "Readings and messages refused by a rule")
	queuedDeliveries = gauge("deliveries_waiting", "Messages and polls that wait for their commit")
	sourceUp         = gauge("source_up", "1 while the source listens, is connected or is answered, else 0", "source")
	sourceMessages   = counter("source_messages_total", "Messages or polls that came", "source")
	sourceAcked      = counter("source_acknowledged_total", "Of these, on disk and acknowledged", "source")
	sourceReadings   = counter("source_readings_total", "Readings that they brought", "source")
	sourceRejects    = counter("source_rejects_total", "What could not be decoded", "source")
	sourceErrors     = counter("source_errors_total", "Timeouts, exceptions and lost connections", "source")
	sourceHeard      = gauge("source_heard_seconds", "When the last message came, in seconds since 1970; missing before the first", "source")
	sourceAbsent     = gauge("source_absent_units", "Units behind it that do not answer", "source")

	uplinkUp       = gauge("uplink_up", "1 while the central answers, else 0", "uplink")
	uplinkBacklog  = gauge("uplink_backlog_rows", "About how many summaries wait", "uplink")
	uplinkSince    = gauge("uplink_backlog_since_seconds", "Since when the oldest of them waits, in seconds since 1970; missing without one", "uplink")
	uplinkAcked    = counter("uplink_acknowledged_rows_total", "Summaries that the central has acknowledged, since the first start", "uplink")
	uplinkFailures = counter("uplink_failures_total", "Attempts that failed", "uplink")
	uplinkGivenUp  = counter("uplink_given_up_rows_total", "Summaries that were dropped before they could be sent, since the first start", "uplink")

	gatewayUp      = gauge("gateway_up", "1 while the gateway is heard, else 0", "gateway")
	gatewayHeard   = gauge("gateway_heard_seconds", "When it was heard last, in seconds since 1970; missing before the first time", "gateway")
	gatewayRows    = counter("gateway_stored_rows_total", "Summaries of it that were stored, since the first start", "gateway")
	gatewayRefused = counter("gateway_refused_total", "Envelopes and runs of it that were refused", "gateway")
	gatewayBacklog = gauge("gateway_backlog_rows", "About how many summaries wait there", "gateway")
)

// Describe is of prometheus.Collector. Which there are depends on what the service is.
func (standing) Describe(chan<- *prometheus.Desc) {}

// Collect is of prometheus.Collector.
func (s standing) Collect(out chan<- prometheus.Metric) {
	tell := func(m metric, value float64, labels ...string) {
		out <- prometheus.MustNewConstMetric(m.Desc, m.kind, value, labels...)
	}
	s.ofService(tell)
	times := s.Store.CommitTimes()
	buckets := map[float64]uint64{}
	for i, bound := range sqlite.CommitBounds {
		buckets[bound.Seconds()] = times.Within[i]
	}
	out <- prometheus.MustNewConstHistogram(commitSeconds.Desc, times.Count, times.Total.Seconds(), buckets)
	tell(commitFailed, float64(times.Failed))
	if s.Gateway != nil {
		s.ofGateway(tell)
	}
	for _, u := range s.Uplinks() {
		tell(uplinkUp, truth(u.Up), u.Name)
		tell(uplinkBacklog, float64(u.Backlog.Rows), u.Name)
		if !u.Backlog.Oldest.IsZero() {
			tell(uplinkSince, seconds(u.Backlog.Oldest), u.Name)
		}
		tell(uplinkAcked, float64(u.Acked.Rows), u.Name)
		tell(uplinkFailures, float64(u.Failures), u.Name)
		tell(uplinkGivenUp, float64(u.Backlog.GivenUp), u.Name)
	}
	if s.Central == nil {
		return
	}
	for _, l := range s.Central.Links() {
		tell(gatewayUp, truth(l.Up(s.now())), l.Gateway)
		if !l.HeardAt.IsZero() {
			tell(gatewayHeard, seconds(l.HeardAt), l.Gateway)
		}
		tell(gatewayRows, float64(l.Rows), l.Gateway)
		tell(gatewayRefused, float64(l.Refused), l.Gateway)
		tell(gatewayBacklog, float64(l.Status.BacklogRows), l.Gateway)
	}
}

// teller takes a value of a metric.
type teller func(m metric, value float64, labels ...string)

func (s standing) ofService(tell teller) {
	whole := s.wholeHealth()
	tell(aboutService, 1, s.Version, s.site())
	tell(startedAt, seconds(s.Started))
	tell(isReady, truth(len(s.Store.Troubles()) == 0))
	tell(troubleCount, float64(len(whole.Troubles)))
	tell(clockDoubt, truth(s.Store.Judge().Doubt() != ""))
	tell(seriesCount, float64(whole.Series))
	tell(trayRows, float64(whole.Unsealed))
	tell(damagedRows, float64(whole.Damaged))
	tell(droppedRows, float64(whole.Dropped))
	if s.RoomDropped != nil {
		tell(roomRows, float64(s.RoomDropped()))
	}
	if whole.Backup != nil && whole.Backup.GoodAt != nil {
		tell(backupAt, seconds(*whole.Backup.GoodAt))
	}
	used, free := s.Store.Space()
	tell(storeBytes, float64(used))
	tell(diskFreeBytes, float64(free))
}

func (s standing) ofGateway(tell teller) {
	tell(acceptedReadings, float64(s.Gateway.Pipe.Accepted()))
	tell(rejectedReadings, float64(s.Gateway.Pipe.Rejected()))
	tell(queuedDeliveries, float64(s.Gateway.Pipe.Waiting()))
	for _, one := range s.Gateway.Sources() {
		tell(sourceUp, truth(one.Up), one.Name)
		tell(sourceMessages, float64(one.Messages), one.Name)
		tell(sourceAcked, float64(one.Acked), one.Name)
		tell(sourceReadings, float64(one.Readings), one.Name)
		tell(sourceRejects, float64(one.Rejects), one.Name)
		tell(sourceErrors, float64(one.Errors), one.Name)
		if !one.LastAt.IsZero() {
			tell(sourceHeard, seconds(one.LastAt), one.Name)
		}
		tell(sourceAbsent, float64(len(one.Absent)), one.Name)
	}
}

func truth(is bool) float64 {
	if is {
		return 1
	}
	return 0
}

func seconds(t time.Time) float64 { return float64(t.UnixMilli()) / 1e3 }
