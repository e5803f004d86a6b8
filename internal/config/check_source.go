package config

import (
	"fmt"
	"time"

	"nexocumula/internal/core/calibrate"
	"nexocumula/internal/core/decode"
	"nexocumula/internal/core/series"
)

const (
	defaultMaxPayload = 256 << 10
	largestPayload    = 8 << 20
	defaultMaxClients = 1000
	mostClients       = 100_000
	maxRegisters      = 4096
)

func (c *checker) source(at, site string, raw sourceFile) Source {
	out := Source{Name: raw.Name}
	set := 0
	if raw.Listener != nil {
		set++
		out.Listener = c.listener(at+".mqtt_listener", site, *raw.Listener)
	}
	if raw.Broker != nil {
		set++
		out.Broker = c.broker(at+".mqtt_broker", site, *raw.Broker)
	}
	if raw.Modbus != nil {
		set++
		out.Modbus = c.modbus(at+".modbus", site, *raw.Modbus)
	}
	if set != 1 {
		c.report(at, "source %q has %d of mqtt_listener, mqtt_broker and modbus; it needs exactly one", raw.Name, set)
	}
	return out
}

func (c *checker) listener(at, site string, raw listenerFile) *Listener {
	c.hostPort(at+".address", raw.Address)
	if raw.MaxPayload == 0 {
		raw.MaxPayload = defaultMaxPayload
	}
	if raw.MaxPayload < 1 || raw.MaxPayload > largestPayload {
		c.report(at+".max_payload", "%d bytes is not possible; use 1 to %d", raw.MaxPayload, largestPayload)
	}
	if raw.MaxClients == 0 {
		raw.MaxClients = defaultMaxClients
	}
	if raw.MaxClients < 1 || raw.MaxClients > mostClients {
		c.report(at+".max_clients", "%d clients are not possible; use 1 to %d", raw.MaxClients, mostClients)
	}
	return &Listener{Address: raw.Address, MaxPayload: raw.MaxPayload, MaxClients: raw.MaxClients, Messages: c.messages(at, site, raw.Messages)}
}

func (c *checker) broker(at, site string, raw brokerFile) *Broker {
	c.tcpAddress(at+".address", raw.Address)
	if raw.ClientID == "" {
		raw.ClientID = "nexocumula-" + site
	}
	return &Broker{
		Address: raw.Address, ClientID: raw.ClientID, User: raw.User,
		Password: c.secret(at, raw.Secret, false), Messages: c.messages(at, site, raw.Messages),
	}
}

func (c *checker) messages(at, site string, raw []messageFile) []Message {
	if len(raw) == 0 {
		c.report(at+".messages", "say which topics become which series")
	}
	var out []Message
	for i, m := range raw {
		out = append(out, c.message(fmt.Sprintf("%s.messages[%d]", at, i), site, m))
	}
	return out
}

func (c *checker) message(at, site string, raw messageFile) Message {
	topic := parsed(c, at+".topic", raw.Topic, decode.ParseTopic)
	form := parsed(c, at+".payload", raw.Payload, decode.ParseForm)
	timeForm := parsed(c, at+".time_form", raw.TimeForm, decode.ParseTimeForm)
	field := func(at, text string, curve calibrate.Curve) Field {
		return Field{Calibrate: curve, Series: parsed(c, at, text, func(text string) (decode.Template, error) {
			t, err := decode.ParseTemplate(text, topic.Names())
			return decode.Template(site + "/" + string(t)), err
		})}
	}
	out := Message{Topic: topic}
	if form == decode.Number {
		if len(raw.Values) > 0 || raw.Time != "" {
			c.report(at+".payload", "a bare number has no values: or time: to point at; use series:, or payload: json")
		}
		out.Decode = decode.OneNumber
		out.Fields = []Field{field(at+".series", raw.Series, linear(raw.Scale, raw.Offset))}
		return out
	}
	if raw.Series != "" || len(raw.Values) == 0 {
		c.report(at+".values", "a json payload needs values:, a list of {at: JSON Pointer, series: path}, and no series: of its own")
	}
	var when *decode.Pointer
	if raw.Time != "" {
		p := parsed(c, at+".time", raw.Time, decode.ParsePointer)
		when, out.OwnTime = &p, true
	}
	var fields []decode.Pointer
	for i, v := range raw.Values {
		at := fmt.Sprintf("%s.values[%d]", at, i)
		fields = append(fields, parsed(c, at+".at", v.At, decode.ParsePointer))
		out.Fields = append(out.Fields, field(at+".series", v.Series, linear(v.Scale, v.Offset)))
	}
	out.Decode = decode.Fields(fields, when, timeForm)
	return out
}

func (c *checker) modbus(at, site string, raw modbusFile) *Modbus {
	c.tcpAddress(at+".address", raw.Address)
	out := &Modbus{
		Address: raw.Address,
		Every:   c.duration(at+".every", raw.Every, 10*time.Second),
		Timeout: c.duration(at+".timeout", raw.Timeout, time.Second),
	}
	if raw.Unit == 0 {
		raw.Unit = 1
	}
	if len(raw.Registers) == 0 || len(raw.Registers) > maxRegisters {
		c.report(at+".registers", "%d registers; list 1 to %d", len(raw.Registers), maxRegisters)
	}
	for i, r := range raw.Registers {
		out.Registers = append(out.Registers, c.register(fmt.Sprintf("%s.registers[%d]", at, i), site, raw, r))
	}
	return out
}

func (c *checker) register(at, site string, device modbusFile, raw registerFile) Register {
	if raw.WordOrder == "" {
		raw.WordOrder = device.WordOrder
	}
	if raw.Unit == nil {
		raw.Unit = &device.Unit
	}
	if *raw.Unit < 0 || *raw.Unit > 255 {
		c.report(at+".unit", "unit id %d is not possible; use 0 to 255", *raw.Unit)
	}
	out := Register{
		Unit:      uint8(*raw.Unit),
		Table:     Table(raw.Table),
		WordOrder: parsed(c, at+".word_order", raw.WordOrder, decode.ParseWordOrder),
		Series:    parsed(c, at+".series", site+"/"+raw.Series, series.ParsePath),
		Calibrate: linear(raw.Scale, raw.Offset),
	}
	switch out.Table {
	case Coil, Discrete:
		if raw.Type == "" {
			raw.Type = string(decode.Bool)
		}
		if raw.Type != string(decode.Bool) {
			c.report(at+".type", "a %s is one bit; its type is bool", out.Table)
		}
	case Holding, Input:
	default:
		c.report(at+".table", "table %q is not known; use coil, discrete_input, holding or input", raw.Table)
	}
	out.Type = parsed(c, at+".type", raw.Type, decode.ParseType)
	switch {
	case raw.Address == nil:
		c.report(at+".address", "say at which address, counted from 0 as on the wire (a manual's 40001 is address 0 of holding)")
	case *raw.Address < 0 || *raw.Address+out.Type.Words() > 1<<16:
		c.report(at+".address", "address %d is not possible for a %s; use 0 to %d", *raw.Address, out.Type, 1<<16-out.Type.Words())
	default:
		out.Address = uint16(*raw.Address)
	}
	return out
}
