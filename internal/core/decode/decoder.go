package decode

// Value is one value of a payload.
type Value struct {
	Field int     // which of the fields that the configuration names
	Time  int64   // nanoseconds since 1970; 0 when the payload says none
	Raw   float64 // as the device wrote it
	Err   error   // why it cannot be read
}

// Decoder takes payloads of one form apart. It calls emit for each value; its error says
// why nothing of the payload can be used.
type Decoder func(payload []byte, emit func(Value)) error

// OneNumber decodes payloads that are a bare number.
func OneNumber(payload []byte, emit func(Value)) error {
	v, err := ReadNumber(payload)
	if err == nil {
		emit(Value{Raw: v})
	}
	return err
}

// Fields decodes JSON: field i stands at fields[i]; the time, unless it is nil, at time.
func Fields(fields []Pointer, time *Pointer, form TimeForm) Decoder {
	return func(payload []byte, emit func(Value)) error {
		doc, err := ReadJSON(payload)
		if err != nil {
			return err
		}
		at := int64(0)
		if time != nil {
			if at, err = doc.Time(*time, form); err != nil {
				return err
			}
		}
		for i, p := range fields {
			v, err := doc.Number(p)
			emit(Value{Field: i, Time: at, Raw: v, Err: err})
		}
		return nil
	}
}
