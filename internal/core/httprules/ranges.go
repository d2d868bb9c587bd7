package httprules

import (
	"strconv"
	"strings"
	"time"
)

// Span is a part of a body: from From on, Length bytes.
type Span struct{ From, Length int64 }

// MaxSpans is how many ranges one request may ask for; more are answered with the
// whole (RFC 9110 §14.2 warns of such requests).
const MaxSpans = 32

// RangeResult is how a Range field ended.
type RangeResult uint8

// The endings: Whole sends everything with 200, Parts sends spans with 206, and
// Unsatisfiable sends 416.
const (
	Whole RangeResult = iota
	Parts
	Unsatisfiable
)

// Ranges carries out Range and If-Range of a GET against a response of size bytes
// (RFC 9110 §13.1.5, §14.2). What is not understood is ignored.
func Ranges(request Header, response Header, size int64) (RangeResult, []Span) {
	if len(request["Range"]) != 1 {
		return Whole, nil
	}
	if request.Has("If-Range") && !ifRange(request.Get("If-Range"), response) {
		return Whole, nil
	}
	unit, set, ok := strings.Cut(request.Get("Range"), "=")
	if !ok || !strings.EqualFold(strings.TrimSpace(unit), "bytes") {
		return Whole, nil
	}
	var spans []Span
	asked := 0
	for spec := range strings.SplitSeq(set, ",") {
		if spec = strings.TrimSpace(spec); spec == "" {
			continue
		}
		if asked++; asked > MaxSpans {
			return Whole, nil
		}
		span, state := parseSpan(spec, size)
		switch state {
		case Whole:
			return Whole, nil
		case Parts:
			spans = append(spans, span)
		}
	}
	var total int64
	for _, s := range spans {
		total += s.Length
	}
	switch {
	case asked == 0:
		return Whole, nil
	case len(spans) == 0:
		return Unsatisfiable, nil
	case len(spans) > 1 && (total > size || overlapping(spans)):
		return Whole, nil // ranges that overlap cost more than the whole
	}
	return Parts, spans
}

// parseSpan reads one range; Whole means that it is none (RFC 9110 §14.1.1, §14.1.2).
func parseSpan(spec string, size int64) (Span, RangeResult) {
	first, last, ok := strings.Cut(spec, "-")
	first, last = strings.TrimSpace(first), strings.TrimSpace(last)
	if !ok || !digits(first) || !digits(last) || first == "" && last == "" {
		return Span{}, Whole
	}
	if first == "" { // the last so many
		n := number(last)
		if n == 0 || size == 0 {
			return Span{}, Unsatisfiable
		}
		n = min(n, size)
		return Span{size - n, n}, Parts
	}
	from, to := number(first), size-1
	if last != "" {
		if number(last) < from {
			return Span{}, Whole
		}
		to = min(number(last), to)
	}
	if from >= size {
		return Span{}, Unsatisfiable
	}
	return Span{from, to - from + 1}, Parts
}

func digits(s string) bool {
	for i := range len(s) {
		if s[i] < '0' || s[i] > '9' {
			return false
		}
	}
	return true
}

// number reads digits; more than fit count as the greatest.
func number(s string) int64 {
	n, err := strconv.ParseInt(s, 10, 64)
	if err != nil {
		return 1<<63 - 1
	}
	return n
}

func overlapping(spans []Span) bool {
	for i, a := range spans {
		for _, b := range spans[:i] {
			if a.From < b.From+b.Length && b.From < a.From+a.Length {
				return true
			}
		}
	}
	return false
}

// ifRange compares strongly: an entity tag, or the exact Last-Modified of a response
// that is old enough for its date to be strong (RFC 9110 §13.1.5, §8.8.2.2).
func ifRange(condition string, response Header) bool {
	condition = strings.TrimSpace(condition)
	if strings.HasPrefix(condition, `"`) || strings.HasPrefix(condition, "W/") {
		return strongMatch(condition, response.Get("Etag"))
	}
	since, ok := ParseDate(condition)
	if !ok { // an origin that does not quote its entity tags
		return condition != "" && strongMatch(condition, response.Get("Etag"))
	}
	modified, ok := ParseDate(response.Get("Last-Modified"))
	if !ok || !modified.Equal(since) {
		return false
	}
	date, ok := ParseDate(response.Get("Date"))
	return ok && date.Sub(modified) >= strongAfter
}

// strongAfter is by how much a Date must be later than Last-Modified for the latter to
// be a strong validator (RFC 9110 §8.8.2.2).
const strongAfter = time.Second

// ContentRange is the field's value for a span (RFC 9110 §14.4).
func (s Span) ContentRange(size int64) string {
	return "bytes " + strconv.FormatInt(s.From, 10) + "-" + strconv.FormatInt(s.From+s.Length-1, 10) + "/" + strconv.FormatInt(size, 10)
}
