package main

import (
	"bytes"
	stdbinary "encoding/binary"
	"encoding/csv"
	"encoding/hex"
	"encoding/json"
	"encoding/xml"
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/fxamacker/cbor/v2"
	"github.com/klauspost/compress/gzip"

	"nexocumula/internal/config/shape"
	"nexocumula/internal/gateway/payload"
)

const decoded = 20_000 // messages a round

// decodeRow returns how many messages a second become readings, with names, times, calibration and
// all, beside the parser of that form alone. raw is a new value to parse each message into.
func decodeRow(keys string, message []byte, parse func([]byte) error) (Row, error) {
	var file struct {
		Messages []shape.Part `yaml:"messages"`
	}
	f, at, err := shape.Read("bench.yaml", []byte("messages:\n  - { topic: \"buoy/{buoy}\", "+keys+" }\n"), &file)
	if err != nil {
		return Row{}, err
	}
	forms := payload.ReadMessages(at, "long-mere", file.Messages)
	if err := f.Err(); err != nil {
		return Row{}, err
	}
	messages := payload.NewMessages("bench", forms)
	now := time.Now().UnixNano()
	var p pairs
	for range 3 * rounds {
		begun := time.Now()
		for range decoded {
			if got := messages.Decode(payload.Arrived{Topic: "buoy/buoy-1", Payload: message, At: now}); len(got.Readings) != 4 {
				return Row{}, fmt.Errorf("%d readings came of %q: %v", len(got.Readings), message, got.Rejects)
			}
		}
		ours := decoded / time.Since(begun).Seconds()
		begun = time.Now()
		for range decoded {
			if err := parse(message); err != nil {
				return Row{}, err
			}
		}
		p.add(ours, decoded/time.Since(begun).Seconds())
	}
	return p.row("messages/s", 1, "the parser library alone, into the same tree", ">= 0.5",
		func(ratio float64) bool { return ratio >= 0.5 }), nil
}

const fourValues = `values: [{ at: %[1]s, series: "{buoy}/t1" }, { at: %[2]s, series: "{buoy}/t2" }, { at: %[3]s, series: "{buoy}/oxygen" }, { at: %[4]s, series: "{buoy}/battery", scale: 0.001 }]`

func decodeJSON(string) (Row, error) {
	message := []byte(`{"id":"buoy-1","at":"2026-03-01T08:00:00Z","water":{"t1":12.51,"t2":11.98,"oxygen":9.21},"battery":12650,"firmware":"2.1.0"}`)
	return decodeRow("payload: json, time: /at, "+fmt.Sprintf(fourValues, "/water/t1", "/water/t2", "/water/oxygen",
		"/battery"), message, func(b []byte) error {
		var root any
		return json.Unmarshal(b, &root)
	})
}

func decodeCBOR(string) (Row, error) {
	message, err := cbor.Marshal(map[string]any{
		"id":       "buoy-1",
		"at":       1772352000,
		"water":    map[string]any{"t1": 12.51, "t2": 11.98, "oxygen": 9.21},
		"battery":  12650,
		"firmware": "2.1.0",
	})
	if err != nil {
		return Row{}, err
	}
	return decodeRow("payload: cbor, time: /at, time_form: unix_s, "+fmt.Sprintf(fourValues, "/water/t1", "/water/t2",
		"/water/oxygen", "/battery"), message, func(b []byte) error {
		var root any
		return cbor.Unmarshal(b, &root)
	})
}

func decodeSenML(string) (Row, error) {
	message := []byte(`[{"bn":"urn:dev:mac:0024befffe804ff1:","bt":1772352000,"n":"t1","u":"Cel","v":12.51},{"n":"t2","u":"Cel","v":11.98},{"n":"oxygen","u":"mg/l","v":9.21},{"n":"battery","u":"V","v":12.65}]`)
	return decodeRow(`payload: senml_json, values: [{ name: "urn:dev:mac:{mac}:{quantity}", series: "{buoy}/{quantity}" }]`, message, func(b []byte) error {
		var root any
		return json.Unmarshal(b, &root)
	})
}

func decodeText(string) (Row, error) {
	message := []byte("buoy-1;2026-03-01T08:00:00Z;12.51;11.98;9.21;12650")
	return decodeRow(`payload: text, separator: ";", columns: 6, time: "2", `+fmt.Sprintf(fourValues, `"3"`, `"4"`,
		`"5"`, `"6"`), message, func(b []byte) error {
		reader := csv.NewReader(bytes.NewReader(b))
		reader.Comma = ';'
		cells, err := reader.Read()
		if err == nil && strings.TrimSpace(cells[0]) == "" {
			err = fmt.Errorf("nothing came")
		}
		return err
	})
}

// decodeBinary has the standard library's decoder of structs beside it.
func decodeBinary(string) (Row, error) {
	message, err := hex.DecodeString("01" + "69a3f200" + "04e3" + "04ae" + "0399" + "316a")
	if err != nil {
		return Row{}, err
	}
	values := fmt.Sprintf(fourValues, `"5 int16"`, `"7 int16"`, `"9 uint16"`, `"11 uint16"`)
	return decodeRow(`payload: binary, length: 13, time: "1 uint32", time_form: unix_s, `+values, message, func(b []byte) error {
		var into struct {
			Head            uint8
			At              uint32
			T1, T2          int16
			Oxygen, Battery uint16
		}
		_, err := stdbinary.Decode(b, stdbinary.BigEndian, &into)
		return err
	})
}

// decodeXML has the standard library beside it, which reads into a struct.
func decodeXML(string) (Row, error) {
	message := []byte(`<buoy id="buoy-1" at="2026-03-01T08:00:00Z"><water t1="12.51" t2="11.98"><oxygen unit="mg/l">9.21</oxygen></water><battery>12650</battery></buoy>`)
	values := fmt.Sprintf(fourValues, "/buoy/water/@t1", "/buoy/water/@t2", "/buoy/water/oxygen/#text", "/buoy/battery")
	return decodeRow(`payload: xml, time: /buoy/@at, `+values, message, func(b []byte) error {
		var into struct {
			ID    string `xml:"id,attr"`
			At    string `xml:"at,attr"`
			Water struct {
				T1     float64 `xml:"t1,attr"`
				T2     float64 `xml:"t2,attr"`
				Oxygen float64 `xml:"oxygen"`
			} `xml:"water"`
			Battery float64 `xml:"battery"`
		}
		return xml.Unmarshal(b, &into)
	})
}

// decodeGzipJSON has the libraries for both beside it.
func decodeGzipJSON(string) (Row, error) {
	var packed bytes.Buffer
	to := gzip.NewWriter(&packed)
	if _, err := to.Write([]byte(`{"id":"buoy-1","at":"2026-03-01T08:00:00Z","water":{"t1":12.51,"t2":11.98,"oxygen":9.21},"battery":12650,"firmware":"2.1.0"}`)); err != nil {
		return Row{}, err
	}
	if err := to.Close(); err != nil {
		return Row{}, err
	}
	return decodeRow("payload: json, compression: gzip, time: /at, "+fmt.Sprintf(fourValues, "/water/t1", "/water/t2",
		"/water/oxygen", "/battery"), packed.Bytes(), func(b []byte) error {
		from, err := gzip.NewReader(bytes.NewReader(b))
		if err != nil {
			return err
		}
		text, err := io.ReadAll(from)
		if err != nil {
			return err
		}
		var root any
		return json.Unmarshal(text, &root)
	})
}
