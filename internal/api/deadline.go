package api

import (
	"net/http"
	"time"
)

// writeWithin bounds how long a client may leave an answer unread.
const writeWithin = 30 * time.Second

// WithDeadlines gives every write of an answer its own deadline, so that a client that
// stops reading does not hold its place for ever, however long the answer is.
func WithDeadlines(within time.Duration, next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		p := &patient{w, http.NewResponseController(w), within, false}
		next.ServeHTTP(p, r)
		if p.broken {
			panic(http.ErrAbortHandler) // ends the connection, so that no client takes the answer for whole
		}
	})
}

type patient struct {
	http.ResponseWriter
	control *http.ResponseController
	within  time.Duration
	broken  bool
}

// breakOff marks an answer that is not whole.
func breakOff(w http.ResponseWriter) {
	for w != nil {
		if p, ok := w.(*patient); ok {
			p.broken = true
			return
		}
		inner, ok := w.(interface{ Unwrap() http.ResponseWriter })
		if !ok {
			return
		}
		w = inner.Unwrap()
	}
}

func (p *patient) Write(data []byte) (int, error) {
	_ = p.control.SetWriteDeadline(time.Now().Add(p.within)) // where there is none, as in tests, nothing can hang
	return p.ResponseWriter.Write(data)
}

// Flush sends what is buffered.
func (p *patient) Flush() {
	_ = p.control.SetWriteDeadline(time.Now().Add(p.within))
	_ = p.control.Flush()
}

// Unwrap is for http.ResponseController.
func (p *patient) Unwrap() http.ResponseWriter { return p.ResponseWriter }
