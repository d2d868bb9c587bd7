package httprules

import (
	"strconv"
	"strings"
	"time"
)

// PrivateControl is the Cache-Control with which an answer that is for some visitors alone goes out: it keeps
// the answer from caches that others share (RFC 9111 §5.2.2.7), and says nothing to those.
func PrivateControl(lines []string) []string {
	kept := keepDirectives(lines, func(name, _ string, _ bool) bool {
		return name != "public" && name != "s-maxage" && name != "proxy-revalidate" && name != "private"
	})
	return []string{strings.Join(append([]string{"private"}, kept...), ", ")}
}

// BrowserControl is the Cache-Control that visitors get where a route says how long
// browsers may keep an answer: its max-age instead of the origin's. What keeps it from
// others, and from being changed, stays. age is how old the answer is: it counts against
// max-age at the visitor's, so that it is put on top.
func BrowserControl(origin Header, personal bool, life, age time.Duration) string {
	d := parseDirectives(origin["Cache-Control"])
	control := "max-age=" + strconv.FormatInt(int64((life+age)/time.Second), 10)
	switch {
	case d.Private || personal:
		control = "private, " + control
	case len(d.PrivateFields) > 0:
		control += `, private="` + strings.Join(d.PrivateFields, ", ") + `"`
	}
	if d.NoTransform {
		control += ", no-transform"
	}
	return control
}
