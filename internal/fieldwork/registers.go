package fieldwork

import (
	"context"
	"errors"
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"nexocumula/client"
	"nexocumula/internal/core/span"
	"nexocumula/internal/gateway"
	"nexocumula/internal/gateway/modbus"
	"nexocumula/internal/gateway/modbus/probe"
)

// Wrong says what is wrong with what was asked.
type Wrong struct{ error }

func wrong(format string, args ...any) error { return Wrong{fmt.Errorf(format, args...)} }

// within reads a length of time that has bounds.
func within(name, text string, otherwise, least, most time.Duration) (time.Duration, error) {
	if text == "" {
		return otherwise, nil
	}
	d, err := span.Parse(text)
	if err != nil {
		return 0, wrong("%s: %w", name, err)
	}
	if d < least || d > most {
		return 0, wrong("%s: %s is not possible; use %s to %s", name, text, span.Format(least), span.Format(most))
	}
	return d, nil
}

// asker returns an asker for the line of a source of g, which may be nil, or of an address.
func asker(g *gateway.Gateway, l client.FieldLine) (*modbus.Asker, error) {
	wait, err := within("timeout", l.Timeout, 500*time.Millisecond, 10*time.Millisecond, 10*time.Second)
	if err != nil {
		return nil, err
	}
	switch {
	case (l.Source == "") == (l.Address == ""):
		return nil, wrong("say how the device is reached: source, one of the gateway's, or address")
	case l.Address != "":
		a, err := modbus.NewAsker(modbus.LineKeys{Address: l.Address, Baud: l.Baud, Parity: l.Parity}, wait)
		if err != nil {
			return nil, Wrong{err}
		}
		return a, nil
	case g == nil:
		return nil, wrong("source %q is one of a running gateway; ask that, or give an address", l.Source)
	}
	lender, names := g.Lender(l.Source)
	if lender == nil {
		return nil, wrong("no source that asks devices is called %q; there is %s", l.Source, strings.Join(names, ", "))
	}
	return lender.Asker(wait), nil
}

const (
	mostTimes    = 600
	mostLooked   = 200 // registers of one probe
	longestProbe = 10 * time.Minute
)

// Probe reads registers and says what they may mean.
func Probe(ctx context.Context, g *gateway.Gateway, want client.Probe) (out client.Probed, err error) {
	every, err := within("every", want.Every, time.Second, 10*time.Millisecond, time.Minute)
	if err != nil {
		return out, err
	}
	want.Times, want.Most = max(want.Times, 1), max(want.Most, 1)
	if want.Table == "" {
		want.Table = "holding"
	}
	switch {
	case !slices.Contains(modbus.Tables, want.Table):
		return out, wrong("table %q is not known; use %s", want.Table, strings.Join(modbus.Tables, ", "))
	case want.Count < 1 || want.Count > mostLooked || want.First < 0 || want.First+want.Count > 1<<16:
		return out, wrong("%d registers from %d on cannot be looked at; 1 to %d at a time can, of 0 to 65535",
			want.Count, want.First, mostLooked)
	case want.Times > mostTimes || time.Duration(want.Times)*every > longestProbe:
		return out, wrong("%d times, %s apart, are not possible; %d times and %s in all are", want.Times,
			span.Format(every), mostTimes, span.Format(longestProbe))
	case want.Like != nil && len(want.Like) != want.Times:
		return out, wrong("like has %d values, and the registers are read %d times; one for each is needed",
			len(want.Like), want.Times)
	}
	a, err := asker(g, want.FieldLine)
	if err != nil {
		return out, err
	}
	defer a.Close()
	samples, err := readAll(ctx, a, want, every)
	if err != nil {
		return out, err
	}
	return Interpret(want, samples), nil
}

// readAll reads registers, in as many requests as they need.
func readAll(ctx context.Context, a *modbus.Asker, want client.Probe, every time.Duration) (out []probe.Sample, err error) {
	const atOnce = 100
	for done := 0; done < want.Count; done += atOnce {
		q := modbus.Question{
			Unit:  want.Unit,
			Table: want.Table,
			First: want.First + done,
			Count: min(atOnce, want.Count-done),
		}
		got, err := probe.Read(ctx, a, q, want.Times, every)
		if err != nil {
			return nil, err
		}
		if out == nil {
			out = got
			continue
		}
		for i := range got {
			out[i].Words = append(out[i].Words, got[i].Words...)
		}
	}
	return out, nil
}

// Interpret says what samples may mean.
func Interpret(want client.Probe, samples []probe.Sample) client.Probed {
	out := client.Probed{Samples: []client.ProbedSample{}, Registers: []client.ProbedRegister{}}
	for _, s := range samples {
		out.Samples = append(out.Samples, client.ProbedSample{At: time.Unix(0, s.At).UTC(), Words: s.Words})
	}
	if modbus.IsBits(want.Table) || len(samples) == 0 {
		return out
	}
	hints := probe.Hints{Low: math.Inf(-1), High: math.Inf(1), Like: want.Like}
	if want.Low != nil {
		hints.Low = *want.Low
	}
	if want.High != nil {
		hints.High = *want.High
	}
	texts := probe.Text(samples[len(samples)-1].Words)
	for i, all := range probe.Interpret(want.First, samples, hints, want.Most) {
		r := client.ProbedRegister{Address: want.First + i, Text: texts[i], Interpretations: []client.Interpretation{}}
		for _, one := range all {
			values := make([]client.Number, len(one.Values))
			for k, v := range one.Values {
				values[k] = client.Number(v)
			}
			r.Interpretations = append(r.Interpretations, client.Interpretation{
				Says: one.String(), Type: one.Type, Words: one.Words, Keys: one.Keys(), Values: values, Same: append([]string{},
					one.Same...), Why: append([]string{}, one.Why...), Score: one.Score,
			})
		}
		out.Registers = append(out.Registers, r)
	}
	return out
}

// Scan looks for units, or for what one gives.
func Scan(ctx context.Context, g *gateway.Gateway, want client.Scan) (out client.Scanned, err error) {
	out = client.Scanned{Units: []client.ScannedUnit{}, Ranges: []client.ScannedRange{}}
	pause, err := within("pause", want.Pause, 20*time.Millisecond, time.Millisecond, 10*time.Second)
	if err != nil {
		return out, err
	}
	if want.AtMost == 0 {
		want.AtMost = 2000
	}
	how := probe.Gentle{Pause: pause, Most: want.AtMost}
	if want.Table == "" {
		want.Table = "holding"
	}
	switch {
	case want.Units && (want.Unit > want.ToUnit || want.From < 0 || want.From > 1<<16-1):
		return out, wrong("units %d to %d at address %d cannot be looked for", want.Unit, want.ToUnit, want.From)
	case !want.Units && (want.From < 0 || want.To > 1<<16-1 || want.From > want.To):
		return out, wrong("registers %d to %d cannot be looked for; use 0 to 65535, the lower one first", want.From,
			want.To)
	case !want.Units && !slices.Contains(modbus.Tables, want.Table):
		return out, wrong("table %q is not known; use %s", want.Table, strings.Join(modbus.Tables, ", "))
	}
	a, err := asker(g, want.FieldLine)
	if err != nil {
		return out, err
	}
	defer a.Close()
	if want.Units {
		var found []probe.Unit
		found, err = probe.Units(ctx, a, want.Unit, want.ToUnit, want.From, how)
		for _, u := range found {
			out.Units = append(out.Units, client.ScannedUnit{
				Unit:   u.ID,
				Tables: append([]string{}, u.Tables...),
				Says:   u.Says,
			})
		}
	} else {
		var found []probe.Range
		found, err = probe.Ranges(ctx, a, want.Unit, want.Table, want.From, want.To, how)
		for _, r := range found {
			out.Ranges = append(out.Ranges, client.ScannedRange{First: r.First, Count: r.Count})
		}
	}
	if enough, ok := errors.AsType[probe.Enough](err); ok {
		out.Ended, err = enough.Error(), nil
	}
	return out, err
}
