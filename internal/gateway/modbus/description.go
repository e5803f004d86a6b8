package modbus

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"nexocumula/internal/config/shape"
	"nexocumula/internal/core/series"
)

// describedKeys are a device whose registers are described in a file.
type describedKeys struct {
	Description string `yaml:"description" is:"required" says:"YAML file with the keys of modbus description, or CSV file with a line for each register below a line with the names of their keys"`
	Unit        int    `yaml:"unit" is:"1" says:"unit id"`
	Station     string `yaml:"station" is:"none" says:"whose series the registers are; none where the description names stations itself"`
}

// descriptionKeys are the file. It may describe any number of devices.
type descriptionKeys struct {
	Device     string `yaml:"device" says:"what it is, for people"`
	deviceKeys `yaml:",inline"`
	Registers  []registerKeys `yaml:"registers" is:"required" says:"as those of modbus, but with the name of the quantity as series"`
	Groups     []groupKeys    `yaml:"groups" says:"as those of modbus, for lines that have none of the same name"`
}

// DescriptionKeys are for people.
func DescriptionKeys() []shape.Key { return shape.Keys(&descriptionKeys{}) }

const largestDescription = 1 << 20

// describe adds a device's registers to those of its line.
func (raw describedKeys) describe(at shape.Place, site string, into *settings) {
	if raw.Unit == 0 {
		raw.Unit = 1
	}
	above := site
	if raw.Station != "" {
		above = string(shape.Parsed(at.Key("station"), site+"/"+raw.Station, series.ParsePath))
	}
	text, err := readDescription(raw.Description)
	if err != nil {
		at.Key("description").Wrong("%v", err)
		return
	}
	at.Key("description").Note(text)
	var file descriptionKeys
	inside, ok := at.Include(raw.Description, text, &file)
	if !ok {
		return
	}
	for i, g := range file.Groups {
		if !slices.ContainsFunc(into.groups, func(o group) bool { return o.name == g.Name }) {
			into.addGroup(inside.Key("groups").Item(i), g)
		}
	}
	if len(file.Registers) == 0 {
		inside.Key("registers").Wrong("the description lists no registers")
	}
	limits := file.deviceKeys.limits(inside)
	for i, r := range file.Registers {
		where := inside.Key("registers").Item(i)
		if r.Unit != nil {
			where.Key("unit").Wrong("a description is for any unit; the line says which")
			r.Unit = nil
		}
		into.registers = append(into.registers, r.registers(stands{where, above, raw.Unit, file.deviceKeys})...)
	}
	if other, used := into.units[uint8(raw.Unit)]; used && other != limits {
		at.Key("unit").Wrong("unit %d is there twice, with different limits", raw.Unit)
	}
	into.units[uint8(raw.Unit)] = limits
}

// readDescription returns a description in YAML. One in CSV becomes that, line by line, so that
// mistakes are found at the line they are in.
func readDescription(file string) ([]byte, error) {
	if file == "" {
		return nil, errors.New("say which file describes the device")
	}
	about, err := os.Stat(file)
	if err != nil {
		return nil, err
	}
	if about.Size() > largestDescription {
		return nil, fmt.Errorf("%s has %d bytes; a description has at most %d", file, about.Size(), largestDescription)
	}
	text, err := os.ReadFile(file)
	if err != nil || !strings.EqualFold(filepath.Ext(file), ".csv") {
		return text, err
	}
	return fromCSV(file, text)
}

func fromCSV(file string, text []byte) ([]byte, error) {
	reader := csv.NewReader(bytes.NewReader(bytes.TrimPrefix(text, []byte("\ufeff"))))
	reader.Comment, reader.TrimLeadingSpace = '#', true
	header := ""
	for line := range strings.Lines(string(text)) {
		if header = strings.TrimSpace(line); header != "" && header[0] != '#' {
			break
		}
	}
	if strings.Count(header, ";") > strings.Count(header, ",") {
		reader.Comma = ';' // as spreadsheets write where the comma is for decimals
	}
	lines := make([]string, bytes.Count(text, []byte("\n"))+2)
	lines[0] = "registers:"
	var names []string
	for {
		row, err := reader.Read()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return nil, fmt.Errorf("%s: %w", file, err)
		}
		if names == nil {
			names = row
			continue
		}
		var keys []string
		for i, cell := range row {
			if name, cell := strings.TrimSpace(names[i]), strings.TrimSpace(cell); cell != "" {
				keys = append(keys, name+": "+yamlOf(name, cell))
			}
		}
		line, _ := reader.FieldPos(0)
		lines[line-1] = "  - { " + strings.Join(keys, ", ") + " }"
	}
	return []byte(strings.Join(lines, "\n")), nil
}

// yamlOf returns a cell: a number as such, several as a list, all else as text.
func yamlOf(key, cell string) string {
	if key == "bits" || key == "not_available" {
		return "[" + strings.Join(strings.FieldsFunc(cell,
			func(c rune) bool { return c == ' ' || c == ';' || c == ',' }),
			", ") + "]"
	}
	if _, err := strconv.ParseFloat(cell, 64); err == nil {
		return cell
	}
	quoted, _ := json.Marshal(cell)
	return string(quoted)
}
