package edge

import (
	"maps"
	"net/http"
	"slices"
	"strings"
	"time"

	"gerastic.example/client/protocol"

	"gerastic/internal/core/httprules"
	"gerastic/internal/core/meter"
	"gerastic/internal/core/policy"
	"gerastic/internal/core/store"
)

// serve answers from an entry. For a hit, status may be zero: the entry has the line
// prepared.
func (x *exchange) serve(entry *store.Entry, outcome meter.Outcome, status httprules.CacheStatus) {
	doubtful := x.volatileLines(entry, status)
	x.sample.Outcome, x.vary = outcome, entry.Vary
	if outcome == meter.Hit || outcome == meter.Stale {
		x.sample.Saved, x.sample.Spared = entry.Cost(), meter.Work(entry.Work)
		x.edge.store.Use(entry, x.began)
	}
	if entry.Skeleton != nil {
		x.compose(skeleton{page: entry.Skeleton, digest: entry.Digest(), status: entry.Status, browser: entry.Browser, lines: entry.Encoded(httprules.Identity).Each})
		return
	}
	h := x.w.Header()
	maps.Copy(h, http.Header(x.own))
	encoded := x.encoded(entry)
	for i := range encoded.Lines {
		h[encoded.Lines[i].Name] = encoded.Lines[i].Values
	}
	if doubtful {
		askFirst(h)
	}
	x.reply(&reply{
		status: entry.Status, judged: encoded.Header, received: entry.Received, own: x.own,
		whole: encoded.Body, far: entry.Far != nil, length: entry.Length(), parts: severalParts, entry: entry, form: encoded, held: int64(len(encoded.Body)),
	})
}

// volatileLines writes those lines of an entry's header that are others with each answer; it reports
// whether the entry may be out of date.
func (x *exchange) volatileLines(entry *store.Entry, status httprules.CacheStatus) (doubtful bool) {
	h := x.w.Header()
	age, line, control := entry.VolatileLines(x.began)
	explains := x.explains()
	doubtful = entry == x.in.Entry && x.in.Doubtful()
	if status != (httprules.CacheStatus{}) || explains || doubtful {
		if status == (httprules.CacheStatus{}) {
			status.HasTTL, status.TTL = true, int64(entry.Freshness.Remaining(x.began)/time.Second)
			if doubtful {
				status.TTL = int64(x.in.Remaining(x.began) / time.Second)
			}
		}
		if explains {
			x.detail(&status)
		}
		line = append(append([]string(nil), entry.Header["Cache-Status"]...), status.String())
	}
	h["Age"], h["Cache-Status"] = age, line
	if explains && entry.PageInfo != nil {
		h[protocol.PartsField] = entry.PageInfo
	}
	if control != nil {
		h["Cache-Control"] = control
	}
	return doubtful
}

// askFirst tells those who keep an answer that they must ask before they use it again: what
// is known here to be perhaps out of date must not live on in browsers. Nothing that its
// origin says is taken away (RFC 9111 §5.2).
func askFirst(h http.Header) {
	for _, name := range []string{"Cache-Control", "Cdn-Cache-Control"} {
		if lines, has := h[name]; has || name == "Cache-Control" {
			h[name] = []string{strings.Join(append(slices.Clone(lines), "no-cache"), ", ")}
		}
	}
}

// encoded chooses the coding that the visitor likes best among those that are there, and has the
// one made that they would have liked best. A range is of the identity form: its bytes are the
// same for everybody.
func (x *exchange) encoded(entry *store.Entry) *store.Encoded {
	plain := entry.Encoded(httprules.Identity)
	if entry.Far != nil || !entry.Compress || x.route.Compress == policy.CompressOff || x.req.Header.Has("Range") {
		return plain
	}
	chosen, ranked := plain, httprules.RankCodings(x.req.Header)
	for i, coding := range ranked {
		if form := entry.Encoded(coding); form.Coding == coding {
			chosen = form
			break
		} else if i == 0 {
			x.edge.coder.Want(entry, coding)
		}
	}
	if x.req.Header.Has("If-None-Match") && !httprules.NotModified(x.req.Header, entry.Status, chosen.Header, entry.Received) {
		// What they have may be the plain form, from before the others were there: it is as good.
		if httprules.NotModified(x.req.Header, entry.Status, plain.Header, entry.Received) {
			return plain
		}
	}
	return chosen
}
