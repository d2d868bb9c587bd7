package httprules

import (
	"net/url"
	"slices"
	"strings"

	"github.com/dunglas/httpsfv"
)

// NoVarySearch is what a No-Vary-Search field says about a response's query: which other
// queries it answers. The zero value varies on everything.
type NoVarySearch struct {
	AnyOrder  bool     // key-order
	AllExcept bool     // params: true; Names are then those of except
	Names     []string // params that do not matter, or, with AllExcept, those that do
	Stated    bool     // the response says so; else only the very same query is answered
}

// ParseNoVarySearch reads No-Vary-Search. A field that does not parse, or has members of another
// type, counts as absent: then the query counts whole.
func ParseNoVarySearch(response Header) NoVarySearch {
	lines := response["No-Vary-Search"]
	if len(lines) == 0 {
		return NoVarySearch{}
	}
	dict, err := httpsfv.UnmarshalDictionary(lines)
	if err != nil {
		return NoVarySearch{}
	}
	var s NoVarySearch
	for _, name := range dict.Names() {
		member, _ := dict.Get(name)
		switch name {
		case "key-order":
			b, ok := boolean(member)
			if !ok {
				return NoVarySearch{}
			}
			s.AnyOrder = b
		case "params":
			if b, ok := boolean(member); ok {
				s.AllExcept = b
				continue
			}
			names, ok := stringsOf(member)
			if !ok {
				return NoVarySearch{}
			}
			s.Names = names
		case "except":
			names, ok := stringsOf(member)
			if p, has := dict.Get("params"); !ok || !has || !isTrue(p) {
				return NoVarySearch{}
			}
			s.Names = names
		}
	}
	s.Stated = s.AnyOrder || s.AllExcept || len(s.Names) > 0
	return s
}

// String is the rule in a canonical form: equal rules read alike.
func (s NoVarySearch) String() string {
	if !s.Stated {
		return ""
	}
	names := slices.Clone(s.Names)
	slices.Sort(names)
	form := "params"
	if s.AllExcept {
		form = "except"
	}
	if s.AnyOrder {
		form += " any-order"
	}
	return form + " " + strings.Join(names, "\x00")
}

func boolean(m httpsfv.Member) (value, ok bool) {
	item, isItem := m.(httpsfv.Item)
	if !isItem {
		return false, false
	}
	value, ok = item.Value.(bool)
	return value, ok
}

func isTrue(m httpsfv.Member) bool {
	value, ok := boolean(m)
	return ok && value
}

func stringsOf(m httpsfv.Member) (names []string, ok bool) {
	list, isList := m.(httpsfv.InnerList)
	if !isList {
		return nil, false
	}
	for _, item := range list.Items {
		s, isString := item.Value.(string)
		if !isString {
			return nil, false
		}
		if decoded, err := url.QueryUnescape(s); err == nil {
			s = decoded
		}
		names = append(names, s)
	}
	return names, true
}

// Canonical reduces a query to what matters: two queries are equivalent if they reduce
// to the same text. Names and values are compared decoded, as the draft asks.
func (s NoVarySearch) Canonical(query string) string {
	if !s.Stated {
		return query
	}
	type pair struct{ name, value string }
	var kept []pair
	for part := range strings.SplitSeq(query, "&") {
		if part == "" {
			continue
		}
		name, value, _ := strings.Cut(part, "=")
		p := pair{unescape(name), unescape(value)}
		if named := slices.Contains(s.Names, p.name); named == s.AllExcept {
			kept = append(kept, p)
		}
	}
	if s.AnyOrder {
		slices.SortStableFunc(kept, func(a, b pair) int { return strings.Compare(a.name, b.name) })
	}
	parts := make([]string, len(kept))
	for i, p := range kept {
		parts[i] = url.QueryEscape(p.name) + "=" + url.QueryEscape(p.value)
	}
	return strings.Join(parts, "&")
}

func unescape(s string) string {
	if decoded, err := url.QueryUnescape(s); err == nil {
		return decoded
	}
	return s
}
