package edge

import (
	"maps"
	"net/http"
	"slices"
	"strings"

	"gerastic/internal/core/decide"
	"gerastic/internal/core/fill"
	"gerastic/internal/core/httprules"
	"gerastic/internal/core/meter"
	"gerastic/internal/core/store"
	"gerastic/internal/core/tags"
	"gerastic/internal/fetch"
)

// want is how an exchange asks for what it lacks. It changes as answers show what they are.
type want struct {
	decide.Decision
	unstored   httprules.Reason // what kept the last answer from the store; OK if nothing did
	conditions bool             // the visitor's own are asked
	strict     bool             // what began before a purge is not joined
	alone      bool             // nobody's answer is waited for
	flightKey  string           // of the fill that is joined
	request    *fetch.Request   // that is carried out, of those who lead
}

// madeRequest reports whether an origin was asked for it.
func (w *want) madeRequest() bool { return w.request != nil && w.request.MadeRequest() }

// share is an exchange's part in a fill.
type share = fill.Part[*fetch.Head]

// obtain asks the origin, or joins a request that already does, and answers.
func (x *exchange) obtain(d decide.Decision) {
	x.forward = d.Forward
	if x.in.Entry == nil && !x.route.Compose && accepts(x.req.Header, "text/event-stream") {
		x.sample.Cause = meter.Unstorable(httprules.EventStream)
		x.pass(d.Forward) // a stream is for the one who opens it
		return
	}
	w := x.want(d)
	if w.alone && x.req.Header.Has("Range") && !x.route.Compose { // not for the store, so the part alone will do
		x.pass(d.Forward)
		return
	}
	for x.attempt(w) {
	}
}

// want is how to ask for the first time.
func (x *exchange) want(d decide.Decision) *want {
	last, known := x.edge.fetch.Learned.Unshareable(x.similar())
	recent := known && x.began.Before(last.Until)
	w := &want{Decision: d, unstored: last.Reason, flightKey: x.flightKey()}
	// When the ledger is lost, nobody knows whether what is under way began before a purge.
	w.alone = d.Alone || d.NoStore || x.in.Lost || recent || x.r.Method == http.MethodHead && x.in.Entry == nil
	if (recent || last.Reason.Declared() && x.began.Before(last.At.Add(fetch.MostUnshareable))) && x.isPersonal(last.Reason, last.Status) {
		w.AsVisitor = true
	}
	w.alone = w.alone || x.bearConditions(w) || w.AsVisitor
	return w
}

// bearConditions lets the visitor's own conditions go to the origin, if there are any and
// the last answer was not stored: it knows what the visitor has, and we have nothing to
// compare it with.
func (x *exchange) bearConditions(w *want) bool {
	w.conditions = w.unstored != httprules.OK && x.in.Entry == nil && !x.route.Compose && fetch.HasConditions(x.req.Header)
	return w.conditions
}

// isPersonal reports whether an answer that is not for others may have come out otherwise
// had the origin seen all that the visitor sent: the route withholds some of it. What is
// nowhere, and what fails, fails for all.
func (x *exchange) isPersonal(reason httprules.Reason, status int) bool {
	return x.route.Terms.States() && reason.ForOne() && status < 500 && !slices.Contains([]int{http.StatusNotFound, http.StatusGone, http.StatusTooManyRequests}, status)
}

// attempt leads or joins one fill and answers with it, unless what it brings is not for this
// visitor: then it reports true, and w says how to go on.
func (x *exchange) attempt(w *want) (again bool) {
	s := x.takePart(w)
	defer s.Reader.Close()
	if s.Lead && !x.lead(s, w) {
		return false
	}
	h, err := s.Reader.Wait(x.r.Context(), x.hint)
	if err == nil && h.Busy {
		err = fetch.ErrBusy
	}
	if err != nil {
		x.receive(s, nil, err, w)
		return false
	}
	switch x.judgeHead(s, h, w) {
	case passOn:
		s.Reader.Close()
		x.pass(w.Forward)
	case askAgain:
		return true
	case forVisitor:
		x.receive(s, h, nil, w)
	}
	return false
}

// takePart joins a fill, or begins one.
func (x *exchange) takePart(w *want) share {
	e := x.edge
	if w.alone {
		return e.fetch.Flights.Alone()
	}
	spares := e.barrier.Spares
	if w.strict {
		spares = nil
	}
	s := e.fetch.Flights.Join(w.flightKey, spares)
	if s.Lead && x.storedMeanwhile(s.Flight) {
		s.Lead = false
	}
	return s
}

// storedMeanwhile gives a flight what another one has stored since the request was looked up,
// and reports whether there was something: who leads would ask the origin for it again.
func (x *exchange) storedMeanwhile(flight *fill.Flight[*fetch.Head]) bool {
	in := x.in
	in.Entry, in.Failure = x.edge.store.Find(x.key, &x.sent).Entry, nil
	if in.Entry == nil || in.Entry.Is(x.in.Entry) || in.Entry.Terms != x.route.TermsDigest {
		return false
	}
	in.Verdict = in.Entry.Judge(x.edge.barrier.Marks)
	if decide.Of(&in).Action != decide.Serve {
		return false
	}
	x.in = in
	x.edge.fetch.AtHand(flight, in.Entry, x.query())
	return true
}

// step is what to do with what a fill has brought.
type step uint8

const (
	forVisitor step = iota // it is
	askAgain               // it is not: another one is wanted, as want says by now
	passOn                 // the request goes to its origin as it is
)

// judgeHead finds out whether an answer is for this visitor.
func (x *exchange) judgeHead(s share, h *fetch.Head, w *want) step {
	if !s.Lead && s.Flight.Stamp < s.Since && !x.edge.barrier.Spares(h.Subject) {
		// A purge between the beginning of the fill and that of the request names what only the
		// answer told. Once is enough: the next one is not joined unless it began later.
		w.strict = true
		return askAgain
	}
	if h.Reason != httprules.OK && x.req.Header.Has("Range") && h.Status == http.StatusOK && !h.Composes {
		x.countUnused(s)
		return passOn // only a part was asked for, and the whole is not for the store
	}
	if !w.AsVisitor && (h.Withheld || !s.Lead) && x.isPersonal(h.Reason, h.Status) {
		// It is for one visitor alone, so that each asks for it with all that they sent.
		x.countUnused(s)
		w.AsVisitor, w.unstored, w.alone = true, h.Reason, true
		x.bearConditions(w)
		return askAgain
	}
	if s.Lead || h.Answers(&x.sent, x.query()) {
		return forVisitor
	}
	if !h.IsShared() || !httprules.Accepts(&x.sent, h.Encodings) {
		// It is not for others: all ask for themselves, all at once. What was not asked for often
		// enough yet is asked for once more, together.
		w.alone = h.Reason != httprules.FirstSight
		return askAgain
	}
	next := string(x.key) + varyKey(h.Vary, &x.sent)
	w.alone = next == w.flightKey // nothing that tells the two apart: do not join again
	w.flightKey = next
	return askAgain
}

// countUnused counts the origin request of a fill whose answer is not used by the one who led
// it.
func (x *exchange) countUnused(s share) {
	if s.Lead {
		x.edge.fetch.CountUnused(x.route)
	}
}

// lead starts a fill; false after it has told the visitor why it cannot.
func (x *exchange) lead(s share, w *want) bool {
	o, ok := x.fillRequest(s.Flight.Stamp)
	if !ok {
		s.Flight.End(errNoOrigin)
		x.forward = httprules.NotForwarded
		x.refuse(http.StatusMisdirectedRequest, errNoOrigin.Error(), w.Cause)
		return false
	}
	o.Unstored, o.NoStore, o.AsVisitor, o.Alone, o.Conditional = w.unstored, w.NoStore, w.AsVisitor, w.Alone, w.conditions
	if o.AsVisitor && o.Body != nil {
		o.Body = x.asCame
	}
	switch {
	case o.Alone: // what is stored is not for this visitor, so that nothing of it is to be confirmed
	case o.Before == nil:
		o.Variants = x.in.Variants > 0
	case x.in.Verdict != tags.Dropped:
		o.Stored, o.Validate = o.Before, w.Action == decide.Validate
	}
	w.request = o
	x.edge.fetch.Prepare(o)
	x.edge.fetch.Lead(s.Flight, o)
	return true
}

// fillRequest is the request that a fill begins with; false if no origin answers its host.
func (x *exchange) fillRequest(stamp tags.Stamp) (*fetch.Request, bool) {
	o := x.inForce.OriginFor(x.req.Host)
	if o == nil {
		return nil, false
	}
	return &fetch.Request{
		Route: x.route, Way: x.inForce.origins.To(o), Visitor: x.req, Sent: x.sent, URL: x.r.URL, Body: x.body,
		Key: string(x.key), SearchKey: x.searchKey(), Stamp: stamp, Before: x.in.Entry, Primes: x.primes,
	}, true
}

// hit is the request as one that was answered from the store; false if no origin answers its
// host.
func (x *exchange) hit() (fetch.Hit, bool) {
	o := x.inForce.OriginFor(x.req.Host)
	if o == nil {
		return fetch.Hit{}, false
	}
	return fetch.Hit{Route: x.route, Way: x.inForce.origins.To(o), Visitor: x.req, Sent: x.sent, URL: x.r.URL}, true
}

// refresh renews an entry behind the visitor's back, unless that is already being done.
func (x *exchange) refresh(entry *store.Entry) {
	e := x.edge
	flightKey := x.flightKey()
	if e.fetch.Flights.Flying(flightKey, e.barrier.Spares) {
		return
	}
	s := e.fetch.Flights.Join(flightKey, e.barrier.Spares)
	defer s.Reader.Close()
	if !s.Lead || x.storedMeanwhile(s.Flight) {
		return
	}
	o, ok := x.fillRequest(s.Flight.Stamp)
	if !ok {
		s.Flight.End(errNoOrigin)
		return
	}
	o.Stored, o.Validate, o.Behind = entry, true, true
	e.fetch.Prepare(o)
	e.fetch.Lead(s.Flight, o)
}

// accepts reports whether a request's Accept names a media type.
func accepts(h httprules.Header, media string) bool {
	for _, line := range h["Accept"] {
		for member := range strings.SplitSeq(line, ",") {
			if httprules.MediaType(member) == media {
				return true
			}
		}
	}
	return false
}

// hint passes an interim answer on (RFC 9110 §15.2).
func (x *exchange) hint(h *fetch.Head) {
	if !x.r.ProtoAtLeast(1, 1) {
		return // HTTP/1.0 knows none
	}
	out := x.w.Header()
	maps.Copy(out, h.Header)
	x.w.WriteHeader(h.Status)
	clear(out)
}

// flightKey is the key, with what this key's stored variants are known to depend on.
func (l *lookup) flightKey() string {
	if l.in.Entry != nil {
		return string(l.key) + varyKey(l.in.Entry.Vary, &l.sent)
	}
	if l.in.Variants > 0 {
		if known := l.edge.store.Variants(l.key); len(known) > 0 {
			return string(l.key) + varyKey(known[0].Vary, &l.sent)
		}
	}
	return string(l.key)
}

func varyKey(vary []httprules.Varying, request httprules.Fields) string {
	if len(vary) == 0 {
		return ""
	}
	suffix := "\x00"
	for _, v := range vary {
		suffix += v.Name
		if lines := request.Lines(v.Name); len(lines) > 0 { // absent is not empty
			suffix += "=" + httprules.Normalised(v.Name, lines)
		}
		suffix += "\x00"
	}
	return suffix
}
