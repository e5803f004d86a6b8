package payload

import (
	"fmt"
	"maps"
	"slices"
	"strconv"
	"time"
)

// documentField is a value of a document, or several that stand together.
type documentField struct {
	pointer
	written
	placed
	field    int // the number of the first
	spread   spread
	within   pointer       // within each of several
	interval time.Duration // between two samples
	encoding string        // of bytes
	layout   *layout
}

// values takes what a document has at a field's place.
func (r *documentReader) values(v value, of *documentField, found any, emit func(value)) {
	switch of.spread {
	case single:
		of.take(&v, found, of.pointer.text)
		emit(v)
	case members, below:
		object, ok := objectIn(found)
		if !ok {
			v.err = fmt.Errorf("payload has %s at %s where an object should be", describe(found), of.pointer.text)
			emit(v)
			return
		}
		for _, key := range slices.Sorted(maps.Keys(object)) {
			r.member(v, of, of.pointer.text+"/"+key, key, object[key], emit)
		}
	case items, samples:
		array, ok := found.([]any)
		if !ok && r.alone {
			array, ok = []any{found}, true
		}
		if !ok {
			v.err = fmt.Errorf("payload has %s at %s where an array should be", describe(found), of.pointer.text)
			emit(v)
			return
		}
		if v.err = tooMany(len(array), 1); v.err != nil {
			emit(v)
			return
		}
		of.items(v, array, emit)
	case inBytes:
		text, ok := found.(string)
		raw, isBytes := found.([]byte)
		var err error
		if ok {
			raw, err = decodeText(of.encoding, text)
		} else if !isBytes {
			err = fmt.Errorf("payload has %s where bytes should be", describe(found))
		}
		if err == nil {
			err = of.layout.decode(raw, v, emit)
		}
		if err != nil {
			v.field, v.err = noField, fmt.Errorf("at %s: %w", of.pointer.text, err)
			emit(v)
		}
	}
}

// items takes the items of an array.
func (of *documentField) items(like value, array []any, emit func(value)) {
	for i, item := range array {
		v := like
		place := of.pointer.text + "/" + strconv.Itoa(i)
		if of.spread == samples {
			v.when = like.when.sample(i, len(array), of.interval)
		} else {
			v.names = append(like.names[:len(like.names):len(like.names)], strconv.Itoa(i+1))
			if item, v.err = of.within.in(plainValue(item)); v.err != nil {
				if of.optional {
					continue
				}
				emit(v)
				continue
			}
		}
		of.take(&v, plainValue(item), place+of.within.text)
		emit(v)
	}
}

// member takes one member of an object, or all that is below it.
func (r *documentReader) member(like value, of *documentField, place, name string, found any, emit func(value)) {
	if of.spread == below {
		if _, bound := r.pointers[place]; bound || slices.ContainsFunc(r.fields,
			func(f documentField) bool { return f.spread == single && f.pointer.text == place }) {
			return
		}
		if object, ok := objectIn(found); ok {
			for _, key := range slices.Sorted(maps.Keys(object)) {
				r.member(like, of, place+"/"+key, name+"_"+key, object[key], emit)
			}
			return
		}
	}
	v := like
	v.names = append(like.names[:len(like.names):len(like.names)], name)
	if found, v.err = of.within.in(found); v.err == nil {
		of.take(&v, found, place+of.within.text)
	} else if of.optional {
		return
	}
	emit(v)
}

// sample returns the time of one of several samples of a payload.
func (w *when) sample(i, of int, interval time.Duration) *when {
	if w == nil {
		return &when{at: -int64(of-1-i) * int64(interval), relative: true}
	}
	out := *w
	out.at += int64(i) * int64(interval)
	return &out
}
