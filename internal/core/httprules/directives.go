package httprules

import (
	"math"
	"strconv"
	"strings"
	"time"

	"github.com/dunglas/httpsfv"
)

// Directives are the cache directives of a message (RFC 9111 §5.2), already
// reduced to what they mean. A duration of Unset means that the directive is absent.
type Directives struct {
	NoStore, NoCache, Private, Public      bool
	MustRevalidate, ProxyRevalidate        bool
	MustUnderstand, NoTransform, Immutable bool
	OnlyIfCached                           bool
	MaxAge, SMaxAge                        time.Duration
	StaleWhileRevalidate, StaleIfError     time.Duration
	MinFresh, MaxStale                     time.Duration
	NoCacheFields, PrivateFields           []string // qualified forms: fields that may not be reused or stored (§5.2.2.4, §5.2.2.7)
	// Targeted is set when these came from CDN-Cache-Control, which replaces
	// Cache-Control and Expires altogether (RFC 9213 §2.2).
	Targeted bool
}

// Unset marks an absent duration.
const Unset time.Duration = -1

// maxSeconds is the greatest delta-seconds kept; larger ones count as this (RFC 9111 §1.2.2).
const maxSeconds = 1 << 31

func noDirectives() Directives {
	return Directives{MaxAge: Unset, SMaxAge: Unset, StaleWhileRevalidate: Unset, StaleIfError: Unset, MinFresh: Unset, MaxStale: Unset}
}

// ParseRequestDirectives reads what a request asks of caches (RFC 9111 §5.2.1), with
// Pragma: no-cache where Cache-Control is absent (§5.4).
func ParseRequestDirectives(h Header) Directives {
	d := parseDirectives(h["Cache-Control"])
	if !h.Has("Cache-Control") && h.Has("Pragma") {
		for name := range strings.SplitSeq(h.Joined("Pragma"), ",") {
			if strings.EqualFold(strings.TrimSpace(name), "no-cache") {
				d.NoCache = true
			}
		}
	}
	return d
}

// ParseResponseDirectives reads what a response says to this cache: CDN-Cache-Control if
// there is a valid, non-empty one (RFC 9213 §2.2), else Cache-Control.
func ParseResponseDirectives(h Header) Directives {
	if lines := h["Cdn-Cache-Control"]; len(lines) > 0 {
		if d, ok := targetedDirectives(lines); ok {
			return d
		}
	}
	return parseDirectives(h["Cache-Control"])
}

// targetedDirectives reads a CDN-Cache-Control dictionary; parameters and values of
// the wrong type are ignored member by member (RFC 9213 §2.1).
func targetedDirectives(lines []string) (Directives, bool) {
	dict, err := httpsfv.UnmarshalDictionary(lines)
	if err != nil || len(dict.Names()) == 0 {
		return Directives{}, false
	}
	d := noDirectives()
	d.Targeted = true
	for _, name := range dict.Names() {
		member, _ := dict.Get(name)
		item, ok := member.(httpsfv.Item)
		if !ok {
			continue
		}
		switch v := item.Value.(type) {
		case bool:
			if v {
				d.set(name, "", false)
			}
		case int64:
			if v >= 0 {
				d.set(name, strconv.FormatInt(v, 10), true)
			}
		case string:
			d.set(name, v, true)
		}
	}
	return d, true
}

// parseDirectives reads Cache-Control lines (RFC 9111 §5.2): names without case,
// values as token or quoted string.
func parseDirectives(lines []string) Directives {
	d := noDirectives()
	for _, line := range lines {
		for line != "" {
			var name, value string
			var valued bool
			name, value, valued, line = nextDirective(line)
			if name != "" {
				d.set(strings.ToLower(name), value, valued)
			}
		}
	}
	return d
}

// nextDirective cuts one directive off a Cache-Control line. A quoted string may
// hold commas; an unclosed one runs to the end of the line.
func nextDirective(s string) (name, value string, valued bool, rest string) {
	i := 0
	for i < len(s) && s[i] != ',' && s[i] != '=' {
		i++
	}
	name = strings.TrimSpace(s[:i])
	if i == len(s) || s[i] == ',' {
		return name, "", false, after(s, i)
	}
	i++ // '='
	for i < len(s) && (s[i] == ' ' || s[i] == '\t') {
		i++
	}
	if i < len(s) && s[i] == '"' {
		var b strings.Builder
		for i++; i < len(s) && s[i] != '"'; i++ {
			if s[i] == '\\' && i+1 < len(s) {
				i++
			}
			b.WriteByte(s[i])
		}
		value = b.String()
		for i < len(s) && s[i] != ',' {
			i++
		}
		return name, value, true, after(s, i)
	}
	start := i
	for i < len(s) && s[i] != ',' {
		i++
	}
	return name, strings.TrimSpace(s[start:i]), true, after(s, i)
}

func after(s string, comma int) string {
	if comma < len(s) {
		return s[comma+1:]
	}
	return ""
}

func (d *Directives) set(name, value string, valued bool) {
	switch name {
	case "no-store":
		d.NoStore = true
	case "no-cache":
		d.qualified(&d.NoCache, &d.NoCacheFields, value, valued)
	case "private":
		d.qualified(&d.Private, &d.PrivateFields, value, valued)
	case "public":
		d.Public = true
	case "must-revalidate":
		d.MustRevalidate = true
	case "proxy-revalidate":
		d.ProxyRevalidate = true
	case "must-understand":
		d.MustUnderstand = true
	case "no-transform":
		d.NoTransform = true
	case "immutable":
		d.Immutable = true
	case "only-if-cached":
		d.OnlyIfCached = true
	case "max-age":
		shortest(&d.MaxAge, value)
	case "s-maxage":
		shortest(&d.SMaxAge, value)
	case "stale-while-revalidate":
		shortest(&d.StaleWhileRevalidate, value)
	case "stale-if-error":
		shortest(&d.StaleIfError, value)
	case "min-fresh":
		shortest(&d.MinFresh, value)
	case "max-stale":
		if !valued {
			d.MaxStale = math.MaxInt64
		} else {
			shortest(&d.MaxStale, value)
		}
	}
}

// qualified takes the form with a field list as narrower than the form without;
// if both stand there, the form without wins as the stricter one (RFC 9111 §4.2.1).
func (d *Directives) qualified(whole *bool, fields *[]string, value string, valued bool) {
	if !valued || strings.TrimSpace(value) == "" {
		*whole = true
		return
	}
	for name := range strings.SplitSeq(value, ",") {
		if name = strings.TrimSpace(name); IsToken(name) {
			*fields = append(*fields, CanonicalName(name))
		}
	}
	if len(*fields) == 0 {
		*whole = true // no readable name: take the stricter meaning
	}
}

// shortest keeps the smallest of duplicated values, and reads what is not a number as
// zero: stale at once (RFC 9111 §4.2.1 lets a cache do both).
func shortest(into *time.Duration, value string) {
	v := parseSeconds(value)
	if *into == Unset || v < *into {
		*into = v
	}
}

// parseSeconds reads delta-seconds (RFC 9111 §1.2.2).
func parseSeconds(s string) time.Duration {
	if s == "" {
		return 0
	}
	for i := range len(s) {
		if s[i] < '0' || s[i] > '9' {
			return 0
		}
	}
	n, err := strconv.ParseInt(s, 10, 64)
	if err != nil || n > maxSeconds {
		n = maxSeconds
	}
	return time.Duration(n) * time.Second
}
