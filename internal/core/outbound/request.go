package outbound

import (
	"net/netip"
	"slices"
	"strings"

	"gerastic.example/client/protocol"

	"gerastic/internal/core/httprules"
	"gerastic/internal/core/key"
	"gerastic/internal/core/policy"
)

// Trusted are the proxies whose forwarding fields are believed.
type Trusted []netip.Prefix

// Contains reports whether a connection from addr ("ip:port") comes from one of them.
func (t Trusted) Contains(addr string) bool {
	if len(t) == 0 {
		return false
	}
	ap, err := netip.ParseAddrPort(addr)
	return err == nil && t.Holds(ap.Addr())
}

// Holds reports whether an address is in one of the ranges.
func (t Trusted) Holds(a netip.Addr) bool {
	return slices.ContainsFunc(t, func(p netip.Prefix) bool { return p.Contains(a.Unmap()) })
}

// forwarding are fields in which proxies tell of those before them. What visitors say
// there counts only when they are trusted proxies; we set our own.
var forwarding = []string{
	"Forwarded", "X-Forwarded-For", "X-Forwarded-Host", "X-Forwarded-Port", "X-Forwarded-Proto", "X-Forwarded-Prefix", "X-Forwarded-Server", "X-Forwarded-Scheme", "X-Forwarded-Ssl", "X-Real-Ip",
}

// asking are fields that ask for less than the whole answer, or for it under
// conditions. A fill wants all of it; we carry them out ourselves.
var asking = []string{"If-Match", "If-None-Match", "If-Modified-Since", "If-Unmodified-Since", "If-Range", "Range"}

// traced are the fields of W3C Trace Context: they say nothing of what is asked for.
var traced = []string{"Traceparent", "Tracestate"}

// agent is who asks where the policy states the life of answers: they are for everybody.
const agent = httprules.CacheName

// Request is a visitor's request on its way to an origin, and says what of it gets there. It
// implements httprules.Fields: what a response depends on is what its origin saw.
type Request struct {
	Request *key.Request
	Route   *policy.Route
	Hop
}

// Hop is the connection that a request came by.
type Hop struct {
	Remote  string  // the visitor's address, "ip:port"
	Proto   int     // major version of HTTP that the visitor speaks
	Trusted Trusted // whose forwarding fields are believed
}

// Lines returns a field as it reaches the origin, if it does; one that the route withholds
// reads as it would once the origin's Vary has named it.
func (s *Request) Lines(name string) []string {
	sent := s.Request.Header[name]
	switch {
	case s.Route.Key.HoldsField(name) || slices.Contains(s.Route.AlsoFields, name):
		return sent
	case s.Route.Group.Takes(name), name == protocol.GroupField:
		return nil
	case name == "Cookie":
		return s.cookies()
	case name == "Via" || slices.Contains(forwarding, name):
		h := httprules.Header{}
		s.forward(h)
		return h[name]
	case httprules.Steering(name) || slices.Contains(asking, name):
		return nil
	case s.Route.Terms.States() && len(sent) == 0 && name == "Accept":
		return []string{"*/*"}
	case s.Route.Terms.States() && len(sent) == 0 && name == "User-Agent":
		return []string{agent}
	}
	return sent
}

func (s *Request) cookies() []string {
	lines := s.Request.Header["Cookie"]
	if !s.Route.WithholdsCookies() || len(lines) == 0 {
		return lines
	}
	return key.KeepCookies(lines, func(name string) bool { return !s.Route.WithholdsCookie(name) })
}

// Fill is the header with which an answer for others is asked for. Where the policy states
// how long answers live, the origin gets what the key holds, what HTTP itself needs, and
// the fields that its Vary named for this key; else the visitor's fields less those
// of the connection and those that a visitor must not decide.
func (s *Request) Fill(varied []string) httprules.Header {
	var h httprules.Header
	if s.Route.Terms.States() {
		h = s.stated(varied)
	} else {
		h = s.whole()
		for name := range h {
			if s.Route.Withholds(name) {
				delete(h, name)
			}
		}
		if kept := s.cookies(); len(kept) > 0 {
			h["Cookie"] = kept
		} else {
			delete(h, "Cookie")
		}
		control(h, httprules.ForwardedControl)
	}
	if lines, ok := h["Accept-Encoding"]; ok {
		h["Accept-Encoding"] = []string{httprules.NormalEncoding(lines)}
	}
	s.forwardKeeping(h)
	return h
}

// stated is what reaches an origin on a route whose answers' life the policy states.
func (s *Request) stated(varied []string) httprules.Header {
	h := httprules.Header{"Accept": {"*/*"}, "User-Agent": {agent}}
	names := slices.Concat([]string{"Accept-Encoding", "Cache-Control", "Pragma", "Cookie"}, traced, s.Route.Key.Headers, s.Route.AlsoFields, varied)
	if s.bodied() {
		names = append(names, "Content-Type", "Content-Encoding")
	}
	if id := s.Route.Key.Identity; id.From == key.Field {
		names = append(names, id.Name)
	}
	if s.Route.Shared { // its answers are stored only as RFC 9111 §3.5 lets them be
		names = append(names, "Authorization")
	}
	for _, name := range names {
		if lines := s.Lines(name); len(lines) > 0 {
			h[name] = lines
		}
	}
	for _, name := range asking {
		delete(h, name)
	}
	control(h, httprules.KnownControl)
	return h
}

// Whole is the header with everything that the visitor sent, but for what a fill does
// itself and what would make the origin answer another request.
func (s *Request) Whole() httprules.Header {
	h := s.whole()
	for name := range h {
		if httprules.Steering(name) && s.Route.Withholds(name) {
			delete(h, name)
		}
	}
	control(h, httprules.ForwardedControl)
	s.forwardKeeping(h)
	return h
}

func (s *Request) whole() httprules.Header {
	h := s.Request.Header.Clone()
	httprules.DropHopByHop(h)
	for _, name := range asking {
		delete(h, name)
	}
	for _, name := range []string{"Expect", "Content-Length", protocol.ExplainField} {
		delete(h, name)
	}
	if s.Route.Group == nil { // a visitor said so
		delete(h, protocol.GroupField)
	}
	if !s.bodied() { // its body is not sent, so that nothing describes it
		delete(h, "Content-Type")
		delete(h, "Content-Encoding")
	}
	return h
}

// bodied reports whether the request's body goes to the origin.
func (s *Request) bodied() bool {
	return s.Route.Key.Body != key.NoBody && s.Request.Method != "GET" && s.Request.Method != "HEAD"
}

// control forwards what a request says to caches (RFC 9111 §5.2).
func control(h httprules.Header, forwarded func([]string) []string) {
	for _, name := range []string{"Cache-Control", "Pragma"} {
		if lines := forwarded(h[name]); len(lines) > 0 {
			h[name] = lines
		} else {
			delete(h, name)
		}
	}
}

// forward sets our own forwarding fields.
func (s *Request) forward(h httprules.Header) {
	Forward(h, s.Hop, s.Request)
}

// forwardKeeping sets them, but for those that the key or the route lets a visitor say.
func (s *Request) forwardKeeping(h httprules.Header) {
	kept := httprules.Header{}
	for _, name := range slices.Concat(s.Route.Key.Headers, s.Route.AlsoFields) {
		if lines, ok := s.Request.Header[name]; ok && !slices.Contains(asking, name) {
			kept[name] = lines
		}
	}
	s.forward(h)
	for name, lines := range kept {
		if name == "Cookie" || name == "Accept-Encoding" {
			continue // they are in the form in which they are sent
		}
		h[name] = lines
	}
}

// Forward sets the forwarding fields of a request to an origin, and our place in Via
// (RFC 9110 §7.6.3).
func Forward(h httprules.Header, hop Hop, v *key.Request) {
	var before string
	if hop.Trusted.Contains(hop.Remote) {
		before = v.Header.Joined("X-Forwarded-For")
	}
	for _, name := range forwarding {
		delete(h, name)
	}
	if peer, err := netip.ParseAddrPort(hop.Remote); err == nil {
		ip := peer.Addr().String()
		node := ip
		if strings.Contains(ip, ":") {
			node = `"[` + ip + `]"` // RFC 7239 §6
		}
		h["Forwarded"] = []string{"for=" + node + `;host="` + v.Host + `";proto=` + v.Scheme}
		if before != "" {
			ip = before + ", " + ip
		}
		h["X-Forwarded-For"] = []string{ip}
	}
	h["X-Forwarded-Host"] = []string{v.Host}
	h["X-Forwarded-Proto"] = []string{v.Scheme}
	h["Via"] = append(slices.Clone(v.Header["Via"]), viaProtocol(hop.Proto)+" "+httprules.CacheName)
	if _, ok := h["User-Agent"]; !ok {
		h["User-Agent"] = []string{""} // keep the transport from naming itself
	}
}

func viaProtocol(major int) string {
	if major == 2 {
		return "2.0"
	}
	return "1.1"
}
