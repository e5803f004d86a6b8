package cli

import (
	"context"
	"fmt"
	"os"
	"strconv"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"nexocumula/client"
	"nexocumula/internal/fieldwork"
	"nexocumula/internal/gateway/modbus/probe"
)

func probeCommand() *cli.Command {
	return &cli.Command{
		Name: "probe", Usage: "Interpret registers of a Modbus device, or find its units and registers",
		ArgsUsage: "ADDRESS | SOURCE",
		Description: "ADDRESS is a device's, such as tcp://10.0.0.7:502 or rtu:///dev/ttyUSB0. SOURCE is a source of a running gateway;\n" +
			"its line is used between the gateway's own requests. Begin with --scan-units, then --scan, then read registers.\n" +
			"--limit is that of interpretations per address: 1, but 3 with --expect, --like or --take.",
		Flags: []cli.Flag{
			atFlag, outputFlag,
			&cli.IntFlag{Name: "unit-id", Value: 1, Usage: "unit id"},
			&cli.StringFlag{Name: "table", Value: "holding", Usage: "table: coil, discrete_input, holding or input"},
			&cli.IntFlag{Name: "first", Usage: "first address, counted from 0"},
			&cli.IntFlag{Name: "count", Value: 8, Usage: "number of registers, up to 200"},
			&cli.IntFlag{Name: "times", Value: 5, Usage: "number of times they are read"},
			&cli.StringFlag{Name: "every", Value: "1s", Usage: "time from one to the next"},
			&cli.StringFlag{Name: "expect", Usage: "range in which the value should lie, such as 6..12"},
			&cli.StringFlag{
				Name:  "like",
				Usage: "series of the gateway --at that moves like the value; needs at least three reads",
			},
			limitFlag(0),
			&cli.StringFlag{Name: "scan-units", Usage: "units to look for, such as 1..20, instead of reading"},
			&cli.StringFlag{Name: "scan", Usage: "registers to look for, such as 0..200, instead of reading"},
			&cli.StringFlag{Name: "pause", Value: "20ms", Usage: "with a scan, time between two requests"},
			&cli.StringFlag{Name: "timeout", Value: "500ms", Usage: "time to wait for an answer"},
			&cli.IntFlag{Name: "baud", Usage: "baud rate of a serial line, also behind a converter"},
			&cli.StringFlag{Name: "parity", Usage: "parity of a serial line: even, odd or none"},
			&cli.StringSliceFlag{
				Name:  "take",
				Usage: "register to print configuration lines for: ADDRESS=STATION/QUANTITY, with its likeliest interpretation, or ADDRESS.2=… with the second; a unit and a range may follow, as in 4=pump/flow:l/s:0..40; repeatable",
			},
			&cli.StringFlag{Name: "source-name", Value: "device", Usage: "name of the source in printed configuration lines"},
			&cli.StringFlag{
				Name:  "description",
				Usage: "with --take, file to write a description of the device into, for any number of such devices",
			},
			appendToFlag,
			writeFlag,
		},
		Action: func(ctx context.Context, cmd *cli.Command) error {
			if cmd.String("scan-units") != "" || cmd.String("scan") != "" {
				return scan(ctx, cmd)
			}
			return probeRegisters(ctx, cmd)
		},
	}
}

func fieldLine(cmd *cli.Command) (out client.FieldLine, direct bool, err error) {
	unit := cmd.Int("unit-id")
	if unit < 0 || unit > 255 {
		return out, false, usage("unit %d is not possible; use 0 to 255", unit)
	}
	out = client.FieldLine{
		Unit:    uint8(unit),
		Timeout: cmd.String("timeout"),
		Baud:    cmd.Int("baud"),
		Parity:  cmd.String("parity"),
	}
	of := cmd.Args().First()
	if direct = strings.Contains(of, "://"); direct {
		out.Address = of
	} else {
		out.Source = of
	}
	return out, direct, nil
}

// span is a range of whole numbers, such as 0..100.
func between(flag, text string) (from, to int, err error) {
	low, high, ok := strings.Cut(text, "..")
	if from, err = strconv.Atoi(low); err == nil && ok {
		to, err = strconv.Atoi(high)
	}
	if err != nil || !ok {
		return 0, 0, usage("--%s %q: write the first and the last, such as 0..100", flag, text)
	}
	return from, to, nil
}

func scan(ctx context.Context, cmd *cli.Command) error {
	line, direct, err := fieldLine(cmd)
	if err != nil {
		return err
	}
	want := client.Scan{FieldLine: line, Table: cmd.String("table"), Pause: cmd.String("pause")}
	if text := cmd.String("scan-units"); text != "" {
		from, to, err := between("scan-units", text)
		if err != nil {
			return err
		}
		if from < 0 || to > 255 {
			return usage("--scan-units %s: units are 0 to 255", text)
		}
		want.Units, want.Unit, want.ToUnit, want.From = true, uint8(from), uint8(to), cmd.Int("first")
	} else if want.From, want.To, err = between("scan", cmd.String("scan")); err != nil {
		return err
	}
	var out client.Scanned
	if direct {
		out, err = fieldwork.Scan(ctx, nil, want)
	} else {
		out, err = ask(cmd).Scan(ctx, want)
	}
	if err != nil {
		return wrongUsage(err)
	}
	g := grid{
		columns: []column{{name: "unit", right: true}, {name: "gives"}, {name: "says_of_others"}},
		empty:   "No unit answers.",
	}
	for _, u := range out.Units {
		g.rows = append(g.rows, []cell{count(uint64(u.Unit)), plain(strings.Join(u.Tables, ", ")), plain(u.Says)})
	}
	if !want.Units {
		g = grid{
			columns: []column{
				{name: "table"}, {name: "first", right: true}, {name: "last", right: true},
				{name: "count", right: true},
			},
			empty: fmt.Sprintf("Unit %d gives none of these.", want.Unit),
		}
		for _, r := range out.Ranges {
			g.rows = append(g.rows,
				[]cell{plain(want.Table), count(r.First), count(r.First + r.Count - 1), count(r.Count)})
		}
	}
	if out.Ended != "" {
		g.notes = append(g.notes, out.Ended)
	}
	return show(cmd, out, g)
}

func wrongUsage(err error) error {
	if wrong, ok := err.(fieldwork.Wrong); ok {
		return usageError{wrong, nil}
	}
	return err
}

func probeRegisters(ctx context.Context, cmd *cli.Command) error {
	line, direct, err := fieldLine(cmd)
	if err != nil {
		return err
	}
	most := cmd.Int("most")
	if !cmd.IsSet("most") && (cmd.String("expect") != "" || cmd.String("like") != "" ||
		len(cmd.StringSlice("take")) > 0) {
		most = 3 // what is expected tells them apart
	}
	want := client.Probe{
		FieldLine: line,
		Table:     cmd.String("table"),
		First:     cmd.Int("first"),
		Count:     cmd.Int("count"),
		Times:     cmd.Int("times"),
		Every:     cmd.String("every"),
		Most:      most,
	}
	if text := cmd.String("expect"); text != "" {
		if want.Low, want.High, err = expectation("expect", text); err != nil {
			return err
		}
	}
	var out client.Probed
	if direct {
		out, err = fieldwork.Probe(ctx, nil, want)
	} else {
		out, err = ask(cmd).Probe(ctx, want)
	}
	if err != nil {
		return wrongUsage(err)
	}
	if path := cmd.String("like"); path != "" {
		if want.Like, err = movedLike(ctx, cmd, path, out.Samples); err != nil {
			return err
		}
		out = fieldwork.Interpret(want, samplesOf(out))
	}
	if len(cmd.StringSlice("take")) > 0 {
		return take(cmd, want, out)
	}
	g := probeGrid(out)
	if most == 1 && len(out.Registers) > 0 && cmd.String("output") == "table" {
		g = probePage(out)
	}
	return show(cmd, out, g)
}

func probeGrid(out client.Probed) grid {
	g := grid{
		columns: []column{
			{name: "address", right: true}, {name: "words"}, {name: "place", right: true}, {name: "reads_as"},
			{name: "first_value", right: true}, {name: "last_value", right: true}, {name: "why"}, {name: "same_as"},
		},
		empty: "There is nothing to interpret.",
	}
	last := out.Samples[len(out.Samples)-1].Words
	for _, r := range out.Registers {
		for i, one := range r.Interpretations {
			address, words := forPeople(strconv.Itoa(r.Address), ""), plain("")
			if i == 0 {
				address.people = strconv.Itoa(r.Address)
				at := r.Address - out.Registers[0].Address
				words.people = fmt.Sprintf("%04x", last[at])
			}
			words.script = fmt.Sprintf("%d", one.Words)
			g.rows = append(g.rows, []cell{
				address, words, count(i + 1), plain(one.Says), number(one.Values[0]),
				number(one.Values[len(one.Values)-1]), plain(strings.Join(one.Why, ", ")),
				forPeople(strings.Join(one.Same, "; "), briefly(one.Same, 2)),
			})
		}
		if r.Text != "" {
			g.rows = append(g.rows, []cell{
				forPeople(strconv.Itoa(r.Address), ""), plain(""), plain(""), plain("text"), plain(r.Text), plain(""),
				plain("letters"), plain(""),
			})
		}
	}
	for i, s := range out.Samples {
		if len(out.Registers) == 0 { // bits
			g.columns = []column{{name: "time"}, {name: "bits"}}
			if i == 0 {
				g.rows = nil
			}
			g.rows = append(g.rows, []cell{moment(s.At), plain(strings.Trim(fmt.Sprint(s.Words), "[]"))})
		}
	}
	return g
}

// briefly returns the first of a list, and how many more there are.
func briefly(all []string, most int) string {
	if len(all) <= most {
		return strings.Join(all, "; ")
	}
	return strings.Join(all[:most], "; ") + fmt.Sprintf("; %d more", len(all)-most)
}

// taken returns one interpretation that the command line takes: ADDRESS=STATION/QUANTITY, with .2 for
// the second, and perhaps a unit and what is expected.
func taken(text string, want client.Probe, out client.Probed, next func(address int) int) (c client.LinesRegister, err error) {
	place, name, ok := strings.Cut(text, "=")
	addressText, nth, _ := strings.Cut(place, ".")
	series, rest, _ := strings.Cut(name, ":")
	unit, expected, _ := strings.Cut(rest, ":")
	address, err := strconv.Atoi(addressText)
	n := 1
	if nth != "" && err == nil {
		n, err = strconv.Atoi(nth)
	}
	if !ok || err != nil || !strings.Contains(series, "/") {
		return c, usage("--take %q: write ADDRESS=STATION/QUANTITY, such as 4=pump-1/flow, or 4.2=pump-1/flow:l/s:0..40",
			text)
	}
	if expected != "" {
		if want.Low, want.High, err = expectation("take", expected); err != nil {
			return c, err
		}
		out = fieldwork.Interpret(want, samplesOf(out))
	}
	if nth == "" { // the likeliest that does not reach into the next that is taken
		want.Most = max(want.Most, 12)
		out = fieldwork.Interpret(want, samplesOf(out))
		if i := address - want.First; i >= 0 && i < len(out.Registers) {
			for k, one := range out.Registers[i].Interpretations {
				if address+one.Words <= next(address) {
					n = k + 1
					break
				}
			}
		}
	}
	i := address - want.First
	if i < 0 || i >= len(out.Registers) || n < 1 || n > len(out.Registers[i].Interpretations) {
		return c, usage("--take %q: address %d has no interpretation %d among those that were read", text, address, n)
	}
	if err := contradicted(text, out.Registers[i], n, want); err != nil {
		return c, err
	}
	return client.LinesRegister{
		Keys:   out.Registers[i].Interpretations[n-1].Keys,
		Series: series,
		Unit:   unit,
		Low:    want.Low,
		High:   want.High,
	}, nil
}

// nextTaken returns the address that is taken next behind another.
func nextTaken(all []string) func(address int) int {
	var addresses []int
	for _, text := range all {
		place, _, _ := strings.Cut(text, "=")
		place, _, _ = strings.Cut(place, ".")
		if n, err := strconv.Atoi(place); err == nil {
			addresses = append(addresses, n)
		}
	}
	return func(address int) int {
		next := 1 << 16
		for _, n := range addresses {
			if n > address {
				next = min(next, n)
			}
		}
		return next
	}
}

// contradicted refuses an interpretation whose present values are not where they are expected.
func contradicted(text string, of client.ProbedRegister, n int, want client.Probe) error {
	outside := func(one client.Interpretation) (v float64, is bool) {
		for _, value := range one.Values {
			if v = float64(value); want.Low != nil && v < *want.Low || want.High != nil && v > *want.High {
				return v, true
			}
		}
		return 0, false
	}
	v, is := outside(of.Interpretations[n-1])
	if !is {
		return nil
	}
	for i, one := range of.Interpretations {
		if _, is := outside(one); !is {
			return usage("--take %q: as %s it reads %v now, which is not within %v to %v; as %s it is %v, so write %d.%d=…",
				text, of.Interpretations[n-1].Says, v, *want.Low, *want.High, one.Says, one.Values[len(one.Values)-1],
				of.Address, i+1)
		}
	}
	return usage("--take %q: as %s it reads %v now, which is not within %v to %v, and nothing that it can be read as is",
		text, of.Interpretations[n-1].Says, v, *want.Low, *want.High)
}

func samplesOf(out client.Probed) (samples []probe.Sample) {
	for _, s := range out.Samples {
		samples = append(samples, probe.Sample{At: s.At.UnixNano(), Words: s.Words})
	}
	return samples
}

// movedLike returns a series' values at the times of samples: each reading holds until the next.
func movedLike(ctx context.Context, cmd *cli.Command, path string, samples []client.ProbedSample) (out []float64, err error) {
	const before = 5 * time.Minute
	last := samples[len(samples)-1].At
	answer, err := ask(cmd).Readings(ctx, client.ReadingsQuery{
		Select: path,
		From:   samples[0].At.Add(-before),
		To:     last.Add(time.Millisecond),
	})
	if err != nil {
		return nil, err
	}
	if len(answer.Series) != 1 {
		return nil, usage("--like %s: name one series, with readings at the gateway", path)
	}
	for _, s := range samples {
		held, ok := 0.0, false
		for _, r := range answer.Series[0].Readings {
			if !r.Time.After(s.At) {
				held, ok = float64(r.Value), true
			}
		}
		if !ok {
			return nil, fmt.Errorf("%s has no reading at %s or in the %s before", path, s.At.Format(time.RFC3339),
				before)
		}
		out = append(out, held)
	}
	return out, nil
}

// expectation parses an expected range, such as 6..12.
func expectation(flag, text string) (low, high *float64, err error) {
	lowText, highText, _ := strings.Cut(text, "..")
	a, errLow := strconv.ParseFloat(lowText, 64)
	b, errHigh := strconv.ParseFloat(highText, 64)
	if errLow != nil || errHigh != nil || a >= b {
		return nil, nil, usage("--%s %q: write low..high, such as 6..12", flag, text)
	}
	return &a, &b, nil
}

// take prints the lines that read what was taken.
func take(cmd *cli.Command, want client.Probe, out client.Probed) error {
	lines := client.LinesFor{Name: cmd.String("source-name"), Address: want.Address, Unit: want.Unit, Table: want.Table}
	for _, text := range cmd.StringSlice("take") {
		one, err := taken(text, want, out, nextTaken(cmd.StringSlice("take")))
		if err != nil {
			return err
		}
		lines.Registers = append(lines.Registers, one)
	}
	if file := cmd.String("description"); file != "" {
		if err := os.WriteFile(file, []byte(probe.Description(want.Table, lines.Registers)), 0o644); err != nil {
			return err
		}
		fmt.Fprintf(cmd.Root().Writer,
			"%s describes the device; name it in devices: of a modbus source, as - { description: %s, unit: %d, station: NAME }\n",
			file, file, want.Unit)
		return nil
	}
	written, err := fieldwork.Lines(lines)
	if err != nil {
		return wrongUsage(err)
	}
	return giveLines(cmd, written)
}
