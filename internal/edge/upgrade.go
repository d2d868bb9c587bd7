package edge

import (
	"net/http"
	"strings"
)

// upgrade reports whether the request asks for a WebSocket where one may pass: on routes
// that say so, and where no route matches. Any other Upgrade is dropped, and the request
// goes on without it (RFC 9110 §7.8): what it would open is a way past every rule.
func (x *exchange) upgrade() bool {
	h := x.r.Header
	wanted := h["Upgrade"]
	if len(wanted) == 0 {
		return false
	}
	if len(wanted) == 1 && strings.EqualFold(strings.TrimSpace(wanted[0]), "websocket") && x.r.Method == http.MethodGet && x.r.ProtoMajor == 1 &&
		asksToUpgrade(h) && (x.route == nil || x.route.Upgrade) {
		return true
	}
	delete(h, "Upgrade")
	return false
}

// asksToUpgrade reports whether Connection holds the token that Upgrade needs.
func asksToUpgrade(h http.Header) bool {
	for _, line := range h["Connection"] {
		for token := range strings.SplitSeq(line, ",") {
			if strings.EqualFold(strings.TrimSpace(token), "upgrade") {
				return true
			}
		}
	}
	return false
}
