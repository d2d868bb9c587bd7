package key

import (
	"net/url"
	"slices"
	"strings"
)

// Query is the rule by which a route's keys take query parameters. The canonical
// query is also what the origin is asked with, so that a parameter that is not in the
// key cannot change a shared answer.
type Query struct {
	Mode   QueryMode
	Names  []Pattern // for Only and Except
	Sorted bool      // by decoded names; parameters of one name keep their order
	// Defaults are values of parameters that mean the same as if the parameter was not there.
	Defaults map[string]string
}

// QueryMode says which parameters count.
type QueryMode uint8

// The modes of key.query in the policy.
const (
	All QueryMode = iota
	None
	Only
	Except
)

// Pattern is a parameter name with at most one "*", which stands for any run of bytes.
type Pattern string

// Match compares a decoded parameter name.
func (p Pattern) Match(name string) bool {
	before, after, star := strings.Cut(string(p), "*")
	if !star {
		return name == string(p)
	}
	return len(name) >= len(before)+len(after) && strings.HasPrefix(name, before) && strings.HasSuffix(name, after)
}

// Holds reports whether a parameter of a name counts.
func (q *Query) Holds(name string) bool {
	plain := Query{Mode: q.Mode, Names: q.Names}
	_, has := plain.Canonical(url.QueryEscape(name)+"=", true)
	return has
}

// Value is the decoded value of the first parameter of a name, or its default.
func (q *Query) Value(raw, name string) (value string, present bool) {
	if value, present = Param(raw, name); !present {
		value, present = q.Defaults[name]
	}
	return value, present
}

// Canonical returns the query that goes into the key: the parameters that count, as
// they were sent, sorted by name if the rule says so. Parameters of one name
// keep their order, since it may mean something. has tells an empty query from none.
func (q *Query) Canonical(raw string, present bool) (canonical string, has bool) {
	if !present || q.Mode == None {
		return "", false
	}
	if q.Mode == All && len(q.Defaults) == 0 && (!q.Sorted || !strings.Contains(raw, "&")) {
		return raw, true
	}
	var room [16]string
	pairs := room[:0]
	for pair := range strings.SplitSeq(raw, "&") {
		if empty := pair == "" && len(q.Defaults) > 0; !empty && q.counts(pair) && !q.isDefault(pair, raw) {
			pairs = append(pairs, pair)
		}
	}
	if len(pairs) == 0 {
		return "", false
	}
	if q.Sorted && !slices.IsSortedFunc(pairs, byName) {
		slices.SortStableFunc(pairs, byName)
	} else if q.Mode == All && len(q.Defaults) == 0 {
		return raw, true
	}
	if len(pairs) == 1 {
		return pairs[0], true
	}
	return strings.Join(pairs, "&"), true
}

// isDefault reports whether a parameter says what is so without it. One of several of its name says
// more than that.
func (q *Query) isDefault(pair, raw string) bool {
	if len(q.Defaults) == 0 {
		return false
	}
	name := nameOf(pair)
	wanted, has := q.Defaults[name]
	if value, _ := Param(pair, name); !has || value != wanted {
		return false
	}
	times := 0
	for other := range strings.SplitSeq(raw, "&") {
		if nameOf(other) == name {
			times++
		}
	}
	return times == 1
}

func byName(a, b string) int { return strings.Compare(nameOf(a), nameOf(b)) }

// nameOf is a parameter's decoded name.
func nameOf(pair string) string {
	name, _, _ := strings.Cut(pair, "=")
	if strings.IndexByte(name, '%') >= 0 || strings.IndexByte(name, '+') >= 0 {
		if decoded, err := url.QueryUnescape(name); err == nil {
			return decoded
		}
	}
	return name
}

func (q *Query) counts(pair string) bool {
	if q.Mode == All {
		return true
	}
	if pair == "" {
		return false
	}
	name := nameOf(pair)
	for _, p := range q.Names {
		if p.Match(name) {
			return q.Mode == Only
		}
	}
	return q.Mode == Except
}

// Param returns the decoded value of the first parameter of that name.
func Param(raw, name string) (value string, present bool) {
	for pair := range strings.SplitSeq(raw, "&") {
		n, v, _ := strings.Cut(pair, "=")
		if decoded, err := url.QueryUnescape(n); err == nil {
			n = decoded
		}
		if n != name || pair == "" {
			continue
		}
		if decoded, err := url.QueryUnescape(v); err == nil {
			v = decoded
		}
		return v, true
	}
	return "", false
}
