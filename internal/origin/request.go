package origin

import (
	"net"
	"net/http"
	"net/netip"
	"slices"
	"strings"

	"gerastic/internal/core/key"
	"gerastic/internal/core/rules"
)

// Trusted are the proxies whose forwarding fields are believed.
type Trusted []netip.Prefix

// Contains tells whether a connection from addr ("ip:port") comes from one of them.
func (t Trusted) Contains(addr string) bool {
	if len(t) == 0 {
		return false
	}
	ap, err := netip.ParseAddrPort(addr)
	if err != nil {
		return false
	}
	for _, p := range t {
		if p.Contains(ap.Addr().Unmap()) {
			return true
		}
	}
	return false
}

// forwarding are fields in which proxies tell of those before them. What visitors say
// there counts only when they are trusted proxies; we set our own.
var forwarding = []string{
	"Forwarded", "X-Forwarded-For", "X-Forwarded-Host", "X-Forwarded-Port", "X-Forwarded-Proto", "X-Forwarded-Prefix", "X-Forwarded-Server", "X-Forwarded-Scheme", "X-Forwarded-Ssl", "X-Real-Ip",
}

// overriding are fields by which a visitor could make an origin answer as if another
// method or URL had been asked for. No key holds them unless a route names them, so
// they do not get through on a cached route.
var overriding = []string{
	"X-Http-Method", "X-Http-Method-Override", "X-Method-Override", "X-Original-Url", "X-Rewrite-Url", "X-Original-Host", "X-Host",
}

// asking are fields that ask for less than the whole answer, or for it under
// conditions. A fill wants all of it; we carry them out ourselves.
var asking = []string{"If-Match", "If-None-Match", "If-Modified-Since", "If-Unmodified-Since", "If-Range", "Range"}

// FillHeader is what a fill sends: the visitor's fields less those of the connection,
// those that ask for less than all, and those that a visitor must not decide.
func FillHeader(r *http.Request, v *key.Request, spec *key.Spec, trusted Trusted) http.Header {
	h := r.Header.Clone()
	if h == nil {
		h = http.Header{}
	}
	rules.DropHopByHop(rules.Header(h))
	for _, names := range [][]string{asking, overriding} {
		for _, name := range names {
			h.Del(name)
		}
	}
	h.Del("Expect")
	h.Del("Content-Length")
	if spec.Body == key.NoBody || r.Method == http.MethodGet || r.Method == http.MethodHead { // its body is not sent, so that nothing describes it
		h.Del("Content-Type")
		h.Del("Content-Encoding")
	}
	if lines, ok := h["Accept-Encoding"]; ok {
		h["Accept-Encoding"] = []string{rules.NormalEncoding(lines)}
	}
	h.Del("Gerastic-Explain")
	// The route decides about these, so that they mean nothing further on.
	h.Del("Cache-Control")
	h.Del("Pragma")
	kept := http.Header{}
	for _, name := range spec.Headers { // what the key holds, a visitor may say
		if values, ok := r.Header[name]; ok && !slices.Contains(asking, name) {
			kept[name] = values
		}
	}
	Forward(h, r, v, trusted)
	for name, values := range kept {
		h[name] = values
	}
	return h
}

// Forward sets the forwarding fields of a request to an origin, and our place in Via
// (RFC 9110 §7.6.3).
func Forward(h http.Header, r *http.Request, v *key.Request, trusted Trusted) {
	var before string
	if trusted.Contains(r.RemoteAddr) {
		before = strings.Join(r.Header["X-Forwarded-For"], ", ")
	}
	for _, name := range forwarding {
		h.Del(name)
	}
	ip, _, err := net.SplitHostPort(r.RemoteAddr)
	if err == nil {
		node := ip
		if strings.Contains(ip, ":") {
			node = `"[` + ip + `]"` // RFC 7239 §6
		}
		h.Set("Forwarded", "for="+node+`;host="`+v.Host+`";proto=`+v.Scheme)
		if before != "" {
			ip = before + ", " + ip
		}
		h.Set("X-Forwarded-For", ip)
	}
	h.Set("X-Forwarded-Host", v.Host)
	h.Set("X-Forwarded-Proto", v.Scheme)
	h.Add("Via", protocol(r)+" "+rules.CacheName)
	if _, ok := h["User-Agent"]; !ok {
		h.Set("User-Agent", "") // keep the transport from naming itself
	}
}

func protocol(r *http.Request) string {
	if r.ProtoMajor == 2 {
		return "2.0"
	}
	return "1.1"
}
