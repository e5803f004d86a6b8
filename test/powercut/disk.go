package powercut

import (
	"io"
	"maps"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
)

// Record is what a program had the system do.
type Record struct {
	below string
	ops   []op
}

// Read reads a record of strace; what is not below a folder is left out.
func Read(record io.Reader, below string) (Record, error) {
	ops, err := read(record, below)
	return Record{below, ops}, err
}

// Begin and End are when the first and the last call began.
func (r Record) Begin() float64 { return r.ops[0].start }
func (r Record) End() float64   { return r.ops[len(r.ops)-1].start }

// inode is the content of a file.
type inode struct {
	writes []write // in order
	safe   int     // so many of them were synced
	size   int64   // as programs see it
}

// write changes a part of a file, or its size.
type write struct {
	at     int64
	data   []byte
	resize bool // to at
}

func (f *inode) add(w write) {
	f.writes = append(f.writes, w)
	if f.size = max(f.size, w.at+int64(len(w.data))); w.resize {
		f.size = w.at
	}
}

// name is a change of the names of files.
type name struct {
	path string
	to   *inode // nil: it is removed
	gone string // what it was called before
}

// sync is one that has begun: what was written before is safe when it ends.
type sync struct {
	op
	files map[*inode]int
	names int // of the folder that is synced
}

// cache is what the system knows of a folder.
type cache struct {
	now     map[string]*inode
	every   []*inode
	names   []name
	safe    int // so many of the names were synced
	pending []sync
}

func (c *cache) finish(until float64) {
	c.pending = slices.DeleteFunc(c.pending, func(s sync) bool {
		if s.end > until {
			return false
		}
		for f, n := range s.files {
			f.safe = max(f.safe, n)
		}
		c.safe = max(c.safe, s.names)
		return true
	})
}

// do plays a call.
func (c *cache) do(o op) {
	f := c.now[o.path]
	switch o.kind {
	case made:
		if f == nil {
			f = &inode{}
			c.now[o.path], c.every = f, append(c.every, f)
			c.names = append(c.names, name{path: o.path, to: f})
		}
	case wrote, appended, cut:
		if f == nil {
			return // it has no name any more
		}
		w := write{at: o.at, data: o.data, resize: o.kind == cut}
		if o.kind == appended {
			w.at = f.size
		}
		f.add(w)
	case moved:
		delete(c.now, o.path)
		c.now[o.to] = f
		c.names = append(c.names, name{path: o.to, to: f, gone: o.path})
	case removed:
		delete(c.now, o.path)
		c.names = append(c.names, name{path: o.path})
	case synced, all:
		c.sync(o, f)
	}
}

func (c *cache) sync(o op, f *inode) {
	s := sync{op: o, files: map[*inode]int{}}
	for _, one := range c.every {
		if one == f || o.kind == all {
			s.files[one] = len(one.writes)
		}
	}
	for i, n := range c.names { // changes of names come to the disk in their order
		if o.kind == all || filepath.Dir(n.path) == o.path {
			s.names = i + 1
		}
	}
	c.pending = append(c.pending, s)
}

const sector = 512 // bytes that a disk writes as a whole

// cutAt returns the files below the folder, as a disk may have them when the power fails at that moment. What was synced is
// there. Of what was not, each sector has some state between the last that was synced and the newest; sizes and names, too.
func (r Record) cutAt(moment float64, random *rand.Rand) map[string][]byte {
	c := cache{now: map[string]*inode{}}
	for _, o := range r.ops {
		if o.start >= moment {
			break
		}
		c.finish(o.start)
		c.do(o)
	}
	c.finish(moment)
	left := map[string]*inode{}
	for _, n := range c.names[:c.safe+random.IntN(len(c.names)-c.safe+1)] {
		delete(left, n.gone)
		if left[n.path] = n.to; n.to == nil {
			delete(left, n.path)
		}
	}
	out := map[string][]byte{}
	for _, path := range slices.Sorted(maps.Keys(left)) {
		out[path] = left[path].left(random)
	}
	return out
}

// left is the content of a file that the disk has.
func (f *inode) left(random *rand.Rand) []byte {
	least := f.safe
	length := func(n int) (size int64) {
		for _, w := range f.writes[:n] {
			if size = max(size, w.at+int64(len(w.data))); w.resize {
				size = w.at
			}
		}
		return size
	}
	until := func() int { return least + random.IntN(len(f.writes)-least+1) }
	data := make([]byte, length(until()))
	chosen := map[int64]int{} // of each sector, how many of the writes came there
	for i, w := range f.writes {
		if w.resize {
			for at := w.at; at < int64(len(data)) && i < least; at++ {
				data[at] = 0
			}
			continue
		}
		for at := w.at; at < w.at+int64(len(w.data)); {
			end := min(at-at%sector+sector, w.at+int64(len(w.data)))
			n, known := chosen[at/sector]
			if !known {
				n = until()
				chosen[at/sector] = n
			}
			if i < n && at < int64(len(data)) {
				copy(data[at:min(end, int64(len(data)))], w.data[at-w.at:])
			}
			at = end
		}
	}
	return data
}

// Cut puts the files as they may be after a power cut at a moment into another folder.
func (r Record) Cut(moment float64, random *rand.Rand, into string) error {
	files := r.cutAt(moment, random)
	for _, path := range slices.Sorted(maps.Keys(files)) {
		to := filepath.Join(into, strings.TrimPrefix(path, r.below))
		if err := os.MkdirAll(filepath.Dir(to), 0o700); err != nil {
			return err
		}
		if err := os.WriteFile(to, files[path], 0o600); err != nil {
			return err
		}
	}
	return nil
}
