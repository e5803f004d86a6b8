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
		next.ServeHTTP(&patient{w, http.NewResponseController(w), within}, r)
	})
}

type patient struct {
	http.ResponseWriter
	control *http.ResponseController
	within  time.Duration
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
