package key

import (
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"strings"

	"gerastic/internal/core/httprules"
)

// Request is what a key is taken from: a request as the visitor sent it, with the
// parts of its target URI apart.
type Request struct {
	Method   string
	Scheme   string // "http" or "https"
	Host     string // lower case, without the scheme's default port
	Path     string // as sent, still percent-encoded
	Query    string // as sent, without "?"
	HasQuery bool   // "/x?" is another URI than "/x" (RFC 3986 §6.2.3)
	Header   httprules.Header

	// Body is the canonical body of a request whose route keys by it, made by BodyOf.
	Body string
	// Content is what counts of a body that is JSON or GraphQL.
	Content any
	// Reduced, when not nil, stands for the query: what No-Vary-Search leaves of it.
	Reduced *string
}

// CanonicalHost is lower case and without the scheme's default port (RFC 9110 §4.2.3).
func CanonicalHost(host, scheme string) string {
	host = strings.ToLower(host)
	if scheme == "https" {
		return strings.TrimSuffix(host, ":443")
	}
	return strings.TrimSuffix(host, ":80")
}

// Spec says which parts of a request a route's keys hold, besides scheme, host and
// path, which every key holds.
type Spec struct {
	Query    Query
	Headers  []string // canonical names
	Cookies  []string
	Identity Identity
	Body     BodyKind
	Members  Members // of the body, that count
	Reads    bool    // tags are made of the body, so that its content is wanted
}

// Identity says where a route's keys take from who is asking. Entries whose key holds
// somebody are theirs alone.
type Identity struct {
	From Source // Field or Cookie; 0 for none
	Name string // canonical, for a Field
	// Required: who does not say who they are gets no shared answer.
	Required bool
}

// Of returns who is asking; present is false for somebody unknown.
func (id Identity) Of(h httprules.Header) (value string, present bool) {
	switch id.From {
	case Field:
		return h.Joined(id.Name), h.Has(id.Name)
	case Cookie:
		value, present = CookieValue(h, id.Name)
		if signature, signed := CookieValue(h, id.Name+SignatureSuffix); present && signed {
			value += "\x00" + signature
		}
		return value, present
	}
	return "", false
}

// SignatureSuffix is behind the name of the cookie that signs another, where a framework
// keeps signatures apart: whoever is asking says so with both.
const SignatureSuffix = ".sig"

// Source is where a part comes from.
type Source byte

// The sources, in the order in which they stand in a key.
const (
	Route    Source = 'r'
	Scheme   Source = 's'
	Host     Source = 'H'
	Path     Source = 'p'
	Params   Source = 'q'
	Field    Source = 'h'
	Cookie   Source = 'c'
	Person   Source = 'i'
	Method   Source = 'm'
	Body     Source = 'b'
	Search   Source = 'n' // a query as No-Vary-Search reduces it
	Space    Source = 'N' // an application's namespace
	Fragment Source = 'F' // a fragment's key, as the application gave it
)

// String names the source for people.
func (s Source) String() string {
	switch s {
	case Route:
		return "route"
	case Scheme:
		return "scheme"
	case Host:
		return "host"
	case Path:
		return "path"
	case Params:
		return "query"
	case Field:
		return "header"
	case Cookie:
		return "cookie"
	case Person:
		return "identity"
	case Method:
		return "method"
	case Body:
		return "body"
	case Search:
		return "query"
	case Space:
		return "namespace"
	case Fragment:
		return "fragment"
	}
	return "unknown"
}

// Part is one part of a key, as explain shows it.
type Part struct {
	Source  Source
	Name    string // of the header or cookie
	Value   string
	Present bool // an absent header is another part than an empty one
}

// Beginning is what all keys of a route begin with.
func Beginning(route string) string { return string(appendPart(nil, Route, "", route, true)) }

// Append writes the canonical key of a request on a route behind dst. It allocates
// nothing when dst has room and the query is short.
func (spec *Spec) Append(dst []byte, route string, r *Request) []byte {
	dst = appendPart(dst, Route, "", route, true)
	dst = appendPart(dst, Scheme, "", r.Scheme, true)
	dst = appendPart(dst, Host, "", r.Host, true)
	dst = appendPart(dst, Path, "", r.Path, true)
	if inBody := spec.Body == GraphQL && r.Method != "POST"; inBody {
		dst = appendPart(dst, Params, "", "", false) // all of the query is in the question
	} else if r.Reduced != nil {
		dst = appendPart(dst, Search, "", *r.Reduced, true)
	} else {
		query, has := spec.Query.Canonical(r.Query, r.HasQuery)
		dst = appendPart(dst, Params, "", query, has)
	}
	for _, name := range spec.Headers {
		dst = appendPart(dst, Field, name, r.Header.Joined(name), r.Header.Has(name))
	}
	for _, name := range spec.Cookies {
		value, present := CookieValue(r.Header, name)
		dst = appendPart(dst, Cookie, name, value, present)
	}
	if spec.Identity.From != 0 {
		value, present := spec.Identity.Of(r.Header)
		if present { // a digest: keys are shown to engineers, credentials are not
			digest := sha256.Sum256([]byte(value))
			value = hex.EncodeToString(digest[:])
		}
		dst = appendPart(dst, Person, spec.Identity.Name, value, present)
	}
	if spec.Body != NoBody {
		method := r.Method
		if method == "HEAD" {
			method = "GET"
		}
		dst = appendPart(dst, Method, "", method, true)
		dst = appendPart(dst, Body, "", r.Body, true)
	}
	return dst
}

// AppendFragment writes the canonical key of an application's fragment behind dst.
func AppendFragment(dst []byte, namespace, name string) []byte {
	return appendPart(appendPart(dst, Space, "", namespace, true), Fragment, "", name, true)
}

// appendPart writes source, presence, and name and value each behind its length.
func appendPart(dst []byte, source Source, name, value string, present bool) []byte {
	dst = append(dst, byte(source))
	if present {
		dst = append(dst, 1)
	} else {
		dst = append(dst, 0)
	}
	dst = binary.AppendUvarint(dst, uint64(len(name)))
	dst = append(dst, name...)
	dst = binary.AppendUvarint(dst, uint64(len(value)))
	return append(dst, value...)
}

// Parts reads a canonical key back into its parts; nil if it is not one.
func Parts(canonical string) []Part {
	var parts []Part
	for canonical != "" {
		if len(canonical) < 2 {
			return nil
		}
		p := Part{Source: Source(canonical[0]), Present: canonical[1] == 1}
		var ok bool
		if p.Name, canonical, ok = cutField(canonical[2:]); !ok {
			return nil
		}
		if p.Value, canonical, ok = cutField(canonical); !ok {
			return nil
		}
		if p.Source == Field { // credentials are not shown
			p.Value = httprules.ShownValue(p.Name, p.Value)
		}
		parts = append(parts, p)
	}
	return parts
}

func cutField(s string) (field, rest string, ok bool) {
	n, used := binary.Uvarint([]byte(s[:min(len(s), binary.MaxVarintLen64)]))
	if used <= 0 || uint64(len(s)-used) < n {
		return "", "", false
	}
	return s[used : used+int(n)], s[used+int(n):], true
}

// Text writes parts for people and for Cache-Status: "host=h path=/p query=page=2".
func Text(parts []Part) string {
	var b strings.Builder
	for _, p := range parts {
		if b.Len() > 0 {
			b.WriteByte(' ')
		}
		b.WriteString(p.Source.String())
		if p.Name != "" {
			b.WriteString(":" + p.Name)
		}
		if p.Present {
			b.WriteString("=" + strings.ReplaceAll(p.Value, "\x00", " "))
		} else {
			b.WriteString(" absent")
		}
	}
	return b.String()
}
