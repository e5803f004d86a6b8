package main

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"time"

	"nexocumula/client"
)

const fetchGateway = `
data: %s
listen: 127.0.0.1:0
gateway:
  site: bench
  sources: [{ name: scripts, http_push: { senders: [{ name: bench, secret_env: BENCH_SENDER }] } }]
  uplinks: [{ name: office, address: "%s", secret_env: BENCH_SECRET }]
`

const (
	fetchedReadings = 86_400
	sender          = "a stone in the river 77"
)

// fetchDay returns how long a central waits for a day of readings, one a second, that it asks its gateway for, beside asking
// the gateway for them directly.
func fetchDay(dir string) (Row, error) {
	if err := errors.Join(os.Setenv("BENCH_SECRET", "bench"), os.Setenv("BENCH_SENDER", sender)); err != nil {
		return Row{}, err
	}
	c, err := startProcess(dir, "central", fmt.Sprintf(wearCentral, filepath.Join(dir, "c"), "    - { gateway: bench, secret_env: BENCH_SECRET }\n"))
	if err != nil {
		return Row{}, err
	}
	defer c.stop()
	g, err := startProcess(dir, "gateway", fmt.Sprintf(fetchGateway, filepath.Join(dir, "g"), c.address))
	if err != nil {
		return Row{}, err
	}
	defer g.stop()
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Minute)
	defer cancel()
	day := time.Now().UTC().AddDate(0, 0, -2).Truncate(24 * time.Hour)
	if err := pushSeconds(ctx, g.address, day); err != nil {
		return Row{}, err
	}
	central, gateway := client.New(c.address), client.New(g.address)
	end := day.Add(24 * time.Hour)
	for there := 0.0; there < fetchedReadings; time.Sleep(100 * time.Millisecond) {
		found, err := central.Windows(ctx, client.WindowsQuery{Select: []string{"bench/#"}, From: day, To: end, Width: "whole", Stats: []string{"count"}})
		if ctx.Err() != nil {
			return Row{}, err
		}
		if err == nil && len(found.Series) > 0 {
			there = float64(found.Series[0].Values["count"][0])
		}
	}
	ours := func() error {
		made, err := central.AskGateways(ctx, client.NewRequest{Kind: "readings", Select: "bench/lake/temperature", From: &day, To: &end})
		for err == nil && !made.Requests[0].Over() {
			time.Sleep(5 * time.Millisecond)
			made.Requests[0], err = central.Request(ctx, made.Requests[0].ID)
		}
		if err != nil {
			return err
		}
		got, err := central.Readings(ctx, client.ReadingsQuery{Select: "bench/lake/temperature", From: day, To: end, Most: fetchedReadings})
		if err == nil && len(got.Series[0].Readings) != fetchedReadings {
			err = fmt.Errorf("%d readings came: %s", len(got.Series[0].Readings), made.Requests[0].Detail)
		}
		return err
	}
	p, err := inTurn(5, ours, func() error {
		_, err := gateway.Readings(ctx, client.ReadingsQuery{Select: "bench/lake/temperature", From: day, To: end, Most: fetchedReadings})
		return err
	})
	if err != nil {
		return Row{}, err
	}
	row := p.row("ms", 1e3, "asking the gateway for the same readings directly", "known", known)
	row.Name = "fetch_day"
	return row, nil
}

// pushSeconds sends readings of a day, one a second.
func pushSeconds(ctx context.Context, address string, day time.Time) error {
	for hour := range 24 {
		var text strings.Builder
		begin := day.Add(time.Duration(hour) * time.Hour)
		fmt.Fprintf(&text, `[{"bn":"lake/temperature","bt":%d,"u":"Cel","v":8}`, begin.Unix())
		for i := 1; i < 3600; i++ {
			fmt.Fprintf(&text, `,{"t":%d,"v":%.2f}`, i, 8+float64((hour*3600+i)*7919%400)/100)
		}
		text.WriteString("]")
		request, err := http.NewRequestWithContext(ctx, http.MethodPost, address+"/api/v1/readings", bytes.NewReader([]byte(text.String())))
		if err != nil {
			return err
		}
		request.Header.Set("Authorization", "Bearer "+sender)
		request.Header.Set("Content-Type", "application/senml+json")
		answer, err := http.DefaultClient.Do(request)
		if err != nil {
			return err
		}
		answer.Body.Close()
		if answer.StatusCode != http.StatusOK {
			return fmt.Errorf("the gateway answered %s", answer.Status)
		}
	}
	return nil
}
