package fieldwork

import (
	"time"

	"nexocumula/client"
	"nexocumula/internal/config"
	"nexocumula/internal/core/series"
)

// summaryRows is how many summaries of a series' tier are made.
type summaryRows struct {
	path series.Path
	tier series.Tier
	rows float64 // a day
}

const aDay = float64(24 * time.Hour)

// useOf reckons how much of a link an uplink uses. What is sent together is larger, and costs less.
func useOf(u config.Uplink, all []summaryRows) client.PlannedUse {
	out := client.PlannedUse{Name: u.Name}
	if u.Kind != "" {
		return out
	}
	batches := aDay / float64(max(sendsEvery, u.Limits.Every))
	if u.Limits.Every == 0 {
		out.Bytes += batches * aliveOnWire
	}
	for _, m := range all {
		if !u.Sends(m.path) || !u.SendsTier(m.tier) {
			continue
		}
		out.Bytes += m.rows*rowOnWire + min(m.rows, batches)*runOnWire
	}
	out.Bytes += batches * batchOnWire
	switch limits := u.Limits; {
	case limits.PerDay > 0:
		out.Share = out.Bytes / float64(limits.PerDay)
	case limits.PerMonth > 0:
		out.Share = 30 * out.Bytes / float64(limits.PerMonth)
	}
	return out
}
