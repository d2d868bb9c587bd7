package control

import (
	"errors"
	"io"
	"net/http"
	"os"
	"sync/atomic"
	"time"

	"gerastic/internal/core/pace"
)

// paced lets nobody hold a connection by a body that does not come, whether it is read or not.
func paced(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.ContentLength == 0 || r.Body == nil || r.Body == http.NoBody {
			next.ServeHTTP(w, r)
			return
		}
		body := &pacedBody{ReadCloser: r.Body, control: http.NewResponseController(w)}
		if r.Header.Get("Authorization") == "" {
			body.until = time.Now().Add(strangersTime)
		}
		r.Body = body
		defer func() {
			if !body.whole.Load() { // the server would wait for the rest of it
				_ = body.control.SetReadDeadline(time.Unix(1, 0))
			}
		}()
		next.ServeHTTP(&pacedWriter{ResponseWriter: w, body: body}, r)
	})
}

// pacedBody is a body whose sender keeps the pace, or it ends.
type pacedBody struct {
	io.ReadCloser
	control *http.ResponseController
	watch   pace.Watch
	until   time.Time // when all of it must be there; zero: as long as it keeps the pace
	whole   atomic.Bool
}

// strangersTime is how long the body of a call without a token may take.
const strangersTime = 15 * time.Second

// Read implements io.Reader. The deadline goes with the body's end: one that came later would
// end the request.
func (b *pacedBody) Read(p []byte) (int, error) {
	began := time.Now()
	by := began.Add(pace.Grace)
	if !b.until.IsZero() && b.until.Before(by) {
		by = b.until
	}
	_ = b.control.SetReadDeadline(by)
	n, err := b.ReadCloser.Read(p)
	b.watch.Again(began)
	switch {
	case err == io.EOF:
		b.whole.Store(true)
		_ = b.control.SetReadDeadline(time.Time{})
	case errors.Is(err, os.ErrDeadlineExceeded), err == nil && b.watch.Slow(time.Now(), n):
		err = pace.ErrSlow
	}
	return n, err
}

// pacedWriter ends the connection with an answer that comes before its request was read: what
// is left of it would be waited for, and taken for the next.
type pacedWriter struct {
	http.ResponseWriter
	body  *pacedBody
	wrote bool
}

func (w *pacedWriter) WriteHeader(status int) {
	if !w.wrote && status >= 200 && !w.body.whole.Load() {
		w.Header().Set("Connection", "close")
	}
	w.wrote = w.wrote || status >= 200
	w.ResponseWriter.WriteHeader(status)
}

func (w *pacedWriter) Write(p []byte) (int, error) {
	if !w.wrote {
		w.WriteHeader(http.StatusOK)
	}
	return w.ResponseWriter.Write(p)
}

// SetReadDeadline leaves deadlines to the body: one that the framework sets stays when the body
// has been read, and would end a call that takes long.
func (w *pacedWriter) SetReadDeadline(time.Time) error { return nil }

// Unwrap lets the standard library reach flushing and deadlines.
func (w *pacedWriter) Unwrap() http.ResponseWriter { return w.ResponseWriter }
