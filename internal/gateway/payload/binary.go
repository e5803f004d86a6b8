package payload

import "nexocumula/internal/config/shape"

// binaryKeys are the keys of payloads that are bytes in a fixed order.
type binaryKeys struct {
	timeKeys   `yaml:",inline"`
	bindKeys   `yaml:",inline"`
	layoutKeys `yaml:",inline"`
}

func (k *binaryKeys) decoder(at shape.Place, f *fields) decoder {
	var c clock
	l := k.layoutKeys.check(at, f, func(l *layout) {
		c = k.clock(at, f, l.place)
		l.clock, l.names = &c, k.bindKeys.check(at, f, l.place)
	})
	c.watch(at, f, k.Offset)
	return func(payload []byte, emit func(value)) error { return l.decode(payload, value{}, emit) }
}
