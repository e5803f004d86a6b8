// Command bench measures what the product is held to, each figure beside a reference
// in the same run, prints a table and writes it as JSON.
//
//	bench FILE [NAME ...]
package main

import (
	"encoding/json"
	"fmt"
	"os"
	"slices"

	"github.com/jedib0t/go-pretty/v6/table"
)

// Row is one figure.
type Row struct {
	Name           string  `json:"name"`
	Unit           string  `json:"unit"`
	Ours           float64 `json:"ours"`
	Reference      string  `json:"reference"`
	ReferenceValue float64 `json:"reference_value"`
	Ratio          float64 `json:"ratio"`                // ours / reference_value, the median of pairs measured in turn
	Low            float64 `json:"ratio_low,omitempty"`  // a quarter of the pairs lie below
	High           float64 `json:"ratio_high,omitempty"` // and a quarter above
	Goal           string  `json:"goal"`
	Met            bool    `json:"met"`
	Growth         string  `json:"growth,omitempty"` // what one costs at three sizes
}

func (r Row) ratio() string {
	if r.High == 0 {
		return fmt.Sprintf("%.3f", r.Ratio)
	}
	return fmt.Sprintf("%.3f (%.3f to %.3f)", r.Ratio, r.Low, r.High)
}

// benches make one row, named as they are, or several that name themselves.
var benches = []struct {
	name string
	run  func(dir string) ([]Row, error)
}{
	{"ingest_mqtt_qos1_durable", one(ingestMQTT)},
	{"ingest_mqtt_tls", one(ingestTLS)},
	{"login_cost", loginCost},
	{"request_overhead", one(requestOverhead)},
	{"pipeline_rules", one(pipelineRules)},
	{"bytes_per_reading", one(bytesPerReading)},
	{"bytes_over_entropy", one(bytesOverEntropy)},
	{"decode_values", one(decodeValues)},
	{"windows_year_hourly", one(windowsYearHourly)},
	{"windows_year_monthly", one(windowsYearMonthly)},
	{"folded_year", one(foldedYear)},
	{"windows_wide", windowsWide},
	{"across_10000", one(atSizes(10_000, "µs a series", perItem, acrossMany))},
	{"condition_1000", one(atSizes(1000, "µs a series", perItem, conditionMany))},
	{"narrow_565", one(narrowMany)},
	{"now_50000", one(nowMany)},
	{"list_100000", one(atSizes(100_000, "µs a series", perItem, listMany))},
	{"list_100000_memory", one(listMemory)},
	{"stream_300", one(atSizes(300, "% of a core for 100", perHundred, streamMany))},
	{"fair_last_hour", fairLastHour},
	{"acks_beside_queries", one(acksBesideQueries)},
	{"acks_beside_verify", one(acksBesideVerify)},
	{"acks_beside_backup", one(acksBesideBackup)},
	{"append_readings", one(appendReadings)},
	{"seal_growth", sealGrowth},
	{"start_stop_100000", startAndStop},
	{"import_dense", one(atSizes(2_000_000, "µs a reading", perSecond, importDense))},
	{"import_sparse", one(atSizes(1_000_000, "µs a reading", perSecond, importSparse))},
	{"import_resent", one(importResent)},
	{"import_live", one(importingLive)},
	{"late_readings", lateReadings},
	{"define_20000", one(atSizes(20_000, "µs a series", perSecond, defineMany))},
	{"start_with_history", one(startWithHistory)},
	{"memory_per_series", one(atSizes(100_000, "bytes", asItIs, memoryPerSeries))},
	{"select_of_million", one(selectOfMillion)},
	{"commit_latency_lone", one(commitLatency)},
	{"verify_rate", copies},
	{"wear_1000", wear1000},
	{"wear_10", wear10},
	{"central_100", central100},
	{"catch_up", catchUp},
	{"catch_up_72h", catchUp72},
	{"outage_disk", one(outageDisk)},
	{"central_1000_gateways", central1000},
	{"fetch_day", one(fetchDay)},
	{"reconcile_month", reconcileMonth},
	{"bytes_per_summary", one(bytesPerSummary)},
	{"thin_links", thinLinks},
	{"decode_json", one(decodeJSON)},
	{"decode_cbor", one(decodeCBOR)},
	{"decode_senml", one(decodeSenML)},
	{"decode_text", one(decodeText)},
	{"decode_sparkplug", one(decodeSparkplug)},
	{"decode_binary", one(decodeBinary)},
	{"decode_xml", one(decodeXML)},
	{"decode_gzip_json", one(decodeGzipJSON)},
	{"modbus_poll_many", modbusPollMany},
	{"modbus_silent_units", one(modbusSilentUnits)},
	{"planner_requests", one(plannerRequests)},
	{"demo_peak", demoMemory},
	{"console_first_view", consoleFirstView},
	{"console_year", one(consoleYear)},
	{"console_now_2000", one(consoleNow2000)},
	{"console_wall", consoleWall},
}

func one(run func(dir string) (Row, error)) func(dir string) ([]Row, error) {
	return func(dir string) ([]Row, error) {
		row, err := run(dir)
		return []Row{row}, err
	}
}

func main() {
	if len(os.Args) < 2 {
		fmt.Fprintln(os.Stderr, "usage: bench FILE [NAME ...]")
		os.Exit(2)
	}
	if len(os.Args) == 4 && os.Args[1] == deviceProcess {
		if err := beDevice(os.Args[2], os.Args[3]); err != nil {
			fmt.Fprintln(os.Stderr, "bench: device:", err)
			os.Exit(1)
		}
		return
	}
	if len(os.Args) == 3 && os.Args[1] == brokerProcess {
		if err := beBroker(os.Args[2]); err != nil {
			fmt.Fprintln(os.Stderr, "bench: broker:", err)
			os.Exit(1)
		}
		return
	}
	if err := run(os.Args[1], os.Args[2:]); err != nil {
		fmt.Fprintln(os.Stderr, "bench:", err)
		os.Exit(1)
	}
}

// figure writes a number with three digits at least.
func figure(v float64) string {
	if v < 100 {
		return fmt.Sprintf("%.2f", v)
	}
	return fmt.Sprintf("%.0f", v)
}

func run(file string, only []string) error {
	rows := []Row{}
	t := table.NewWriter()
	t.SetOutputMirror(os.Stdout)
	t.AppendHeader(table.Row{
		"name", "unit", "ours", "reference", "reference value", "ratio (half of the pairs)", "goal", "met", "growth",
	})
	for _, b := range benches {
		if len(only) > 0 && !slices.Contains(only, b.name) {
			continue
		}
		dir, err := os.MkdirTemp("", "nexocumula-bench-")
		if err != nil {
			return err
		}
		made, err := b.run(dir)
		os.RemoveAll(dir)
		if err != nil {
			return fmt.Errorf("%s: %w", b.name, err)
		}
		for _, row := range made {
			if row.Name == "" {
				row.Name = b.name
			}
			rows = append(rows, row)
			t.AppendRow(table.Row{
				row.Name, row.Unit, figure(row.Ours), row.Reference, figure(row.ReferenceValue), row.ratio(), row.Goal,
				row.Met, row.Growth,
			})
		}
	}
	t.Render()
	text, err := json.MarshalIndent(rows, "", "  ")
	if err != nil {
		return err
	}
	return os.WriteFile(file, append(text, '\n'), 0o644)
}
