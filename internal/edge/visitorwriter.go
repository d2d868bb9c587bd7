package edge

import (
	"io"
	"net/http"
	"time"

	"gerastic/internal/core/pace"
)

// visitorWriter writes to a visitor whose connection needs care: it ends with this answer, or
// is shared by streams of which each has a window of its own.
type visitorWriter struct {
	http.ResponseWriter
	upload *upload
	ends   bool // the connection, with this answer
	shared bool
	wrote  bool
	armed  time.Time // when a write would end by itself
}

// writePiece is what is written to a shared connection at a time, in bytes: a frame of HTTP/2.
const writePiece = 16 << 10

// careful returns a writer for the request, the plain one if that will do. The connection
// ends where it cannot be sure where the next request begins: after a body in chunks, which
// somebody before us may have seen otherwise (RFC 9112 §6.1), after one that was not read,
// in HTTP/1.0, and after CONNECT, whose sender takes what follows for something else.
func careful(w http.ResponseWriter, r *http.Request, u *upload) http.ResponseWriter {
	if r.ProtoMajor == 2 {
		return &visitorWriter{ResponseWriter: w, shared: true}
	}
	ends := len(r.TransferEncoding) > 0 || !r.ProtoAtLeast(1, 1) || r.Method == http.MethodConnect
	if u == nil && !ends {
		return w
	}
	return &visitorWriter{ResponseWriter: w, upload: u, ends: ends}
}

func (w *visitorWriter) WriteHeader(status int) {
	w.wrote = w.wrote || status >= 200
	if status >= 200 && !w.shared && (w.ends || w.upload != nil && w.upload.State() != io.EOF) {
		w.Header()["Connection"] = []string{"close"}
	}
	w.ResponseWriter.WriteHeader(status)
}

// Write implements io.Writer. A stream whose window stays closed ends.
func (w *visitorWriter) Write(p []byte) (written int, err error) {
	if !w.wrote {
		w.WriteHeader(http.StatusOK)
	}
	if !w.shared {
		return w.ResponseWriter.Write(p)
	}
	for {
		piece := p[written:min(len(p), written+writePiece)]
		need := pace.Grace + time.Duration(len(piece))*time.Second/pace.Rate
		if now := time.Now(); w.armed.Sub(now) < need {
			w.armed = now.Add(need + pace.Grace)
			_ = http.NewResponseController(w.ResponseWriter).SetWriteDeadline(w.armed)
		}
		n, err := w.ResponseWriter.Write(piece)
		written += n
		if err != nil || written == len(p) {
			return written, err
		}
	}
}

// Unwrap lets the standard library reach flushing and hijacking.
func (w *visitorWriter) Unwrap() http.ResponseWriter { return w.ResponseWriter }
