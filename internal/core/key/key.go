// Package key builds what decides whether two requests may share an entry. A key is
// canonical: a sequence of length-prefixed parts, so that no two different lists of
// parts read the same, and so that every key can tell what it is made of.
package key

import (
	"encoding/binary"
	"strings"

	"gerastic/internal/core/rules"
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
	Header   rules.Header
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
	Query   Query
	Headers []string // canonical names
	Cookies []string
}

// Source is where a part comes from.
type Source byte

// The sources, in the order in which they stand in a key.
const (
	Route  Source = 'r'
	Scheme Source = 's'
	Host   Source = 'H'
	Path   Source = 'p'
	Params Source = 'q'
	Field  Source = 'h'
	Cookie Source = 'c'
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

// Append writes the canonical key of a request on a route behind dst. It allocates
// nothing when dst has room and the query is short.
func (spec *Spec) Append(dst []byte, route string, r *Request) []byte {
	dst = appendPart(dst, Route, "", route, true)
	dst = appendPart(dst, Scheme, "", r.Scheme, true)
	dst = appendPart(dst, Host, "", r.Host, true)
	dst = appendPart(dst, Path, "", r.Path, true)
	query, has := spec.Query.Canonical(r.Query, r.HasQuery)
	dst = appendPart(dst, Params, "", query, has)
	for _, name := range spec.Headers {
		dst = appendPart(dst, Field, name, r.Header.Joined(name), r.Header.Has(name))
	}
	for _, name := range spec.Cookies {
		value, present := CookieValue(r.Header, name)
		dst = appendPart(dst, Cookie, name, value, present)
	}
	return dst
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

// Parts reads a canonical key back into its parts; nil if it is none.
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

// CookieValue finds a cookie in a request. Several of one name all count, in their
// order, since the origin may take any of them.
func CookieValue(h rules.Header, name string) (value string, present bool) {
	for _, line := range h["Cookie"] {
		for line != "" {
			var pair string
			pair, line, _ = strings.Cut(line, ";")
			n, v, _ := strings.Cut(strings.TrimSpace(pair), "=")
			if n != name {
				continue
			}
			if present {
				value += ";" + v
			} else {
				value, present = v, true
			}
		}
	}
	return value, present
}
