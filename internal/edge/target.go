package edge

import (
	"net/http"
	"strconv"
	"strings"

	"gerastic/internal/core/httprules"
	"gerastic/internal/core/meter"
)

// methods are those that an answer of status 405 names.
const methods = "GET, HEAD, POST, PUT, PATCH, DELETE, OPTIONS"

// turnAway answers what does not go any further: requests that would be read otherwise by
// their origin than here, that open a way through, or that end here. It reports whether it
// did.
func (x *exchange) turnAway() bool {
	r := x.r
	switch {
	case r.Method == http.MethodConnect || r.Method == http.MethodTrace: // a way past every rule; a way to see others' fields
		x.refuse(http.StatusMethodNotAllowed, r.Method+" is not served here", x.sample.Cause)
	case r.ProtoMajor == 2 && !httprules.IsToken(r.Method): // in HTTP/1 the server has looked
		x.refuse(http.StatusBadRequest, "the request's method is not a token", x.sample.Cause)
	case r.ProtoMajor == 2 && !isTarget(r.RequestURI):
		x.refuse(http.StatusBadRequest, "the request's target has blanks or control characters; they are written %20 and so on", x.sample.Cause)
	case !isHost(r.Host):
		x.refuse(http.StatusBadRequest, "the request's host is not a valid host", x.sample.Cause)
	case r.Method == http.MethodOptions && !x.forwards():
		h := x.w.Header()
		h["Allow"], h["Content-Length"] = []string{methods}, []string{"0"}
		x.sample.Outcome = meter.Bypass
		x.status(http.StatusOK)
	default:
		return false
	}
	return true
}

// forwards counts Max-Forwards down; false: the request ends here (RFC 9110 §7.6.2).
func (x *exchange) forwards() bool {
	lines := x.r.Header["Max-Forwards"]
	if len(lines) != 1 {
		return true
	}
	n, err := strconv.ParseUint(strings.TrimSpace(lines[0]), 10, 63)
	if err != nil {
		return true
	}
	if n > 0 {
		x.r.Header["Max-Forwards"] = []string{strconv.FormatUint(n-1, 10)}
	}
	return n > 0
}

// isTarget reports whether nothing in a request target ends it before its end.
func isTarget(target string) bool {
	for i := range len(target) {
		if target[i] <= ' ' || target[i] == 0x7f {
			return false
		}
	}
	return true
}

// isHost reports whether a host, perhaps with a port, is made of what names and addresses are
// made of (RFC 9110 §4.2.3), so that it says the same wherever it is written. HTTP/1.0 may
// name none.
func isHost(host string) bool {
	for i := range len(host) {
		c := host[i]
		if (c < 'a' || c > 'z') && (c < 'A' || c > 'Z') && (c < '0' || c > '9') && strings.IndexByte("-._~:[]%", c) < 0 {
			return false
		}
	}
	return true
}
