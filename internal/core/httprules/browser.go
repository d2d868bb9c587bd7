package httprules

import (
	"strconv"
	"strings"
	"time"
)

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
