package edge

import (
	"io"
	"net/http"

	"gerastic/internal/core/httprules"
)

// openFar opens the body of the entry that is to be served, if it is far and any of it is to be sent.
// It reports false if that cannot be read; the store does not have the entry any more.
func (x *exchange) openFar() bool {
	entry := x.in.Entry
	switch {
	case entry.Far == nil || x.r.Method == http.MethodHead:
		return true
	case httprules.Conditional(x.req.Header) && httprules.NotModified(x.req.Header, entry.Status, entry.Header, entry.Received):
		return true
	}
	var err error
	x.far, err = entry.Far.Open()
	return err == nil
}

// giveFar sends a part of the body that was opened: from its file, where the connection can.
func (x *exchange) giveFar(part httprules.Span) (sent int64, err error) {
	return io.Copy(x.w, x.far.Section(part.From, part.Length))
}
