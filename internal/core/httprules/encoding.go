package httprules

import (
	"slices"
	"strconv"
	"strings"
)

// Coding is a content coding that this cache can make and read of a request.
type Coding string

// The codings, best first where a visitor likes them equally.
const (
	Identity Coding = ""
	Brotli   Coding = "br"
	Zstd     Coding = "zstd"
	Gzip     Coding = "gzip"
)

// Codings are those that a stored identity answer may be given.
var Codings = [...]Coding{Brotli, Zstd, Gzip}

// preference is what one member of Accept-Encoding says.
type preference struct {
	coding string
	weight int // thousandths
}

// preferences reads Accept-Encoding (RFC 9110 §12.5.3).
func preferences(lines []string) []preference {
	var all []preference
	for _, line := range lines {
		for member := range strings.SplitSeq(line, ",") {
			coding, params, _ := strings.Cut(member, ";")
			coding = strings.ToLower(strings.TrimSpace(coding))
			if coding == "" {
				continue
			}
			if coding == "x-gzip" { // RFC 9110 §8.4.1.3: the same
				coding = string(Gzip)
			}
			all = append(all, preference{coding, weight(params)})
		}
	}
	return all
}

func weight(params string) int {
	for p := range strings.SplitSeq(params, ";") {
		name, value, _ := strings.Cut(strings.TrimSpace(p), "=")
		if strings.EqualFold(strings.TrimSpace(name), "q") {
			q, err := strconv.ParseFloat(strings.TrimSpace(value), 64)
			if err != nil || q < 0 {
				return 0
			}
			return int(min(q, 1)*1000 + 0.5)
		}
	}
	return 1000
}

// RankCodings are the codings that a visitor likes better than none, best first.
func RankCodings(request Header) []Coding {
	lines := request["Accept-Encoding"]
	if len(lines) == 0 {
		return nil
	}
	if len(lines) == 1 {
		for i := range usual { // what browsers say
			if lines[0] == usual[i].says {
				return usual[i].ranked
			}
		}
	}
	return rankCodings(lines)
}

// usual are lines of Accept-Encoding that need not be read each time.
var usual = [...]struct {
	says   string
	ranked []Coding
}{
	{"gzip, deflate, br, zstd", []Coding{Brotli, Zstd, Gzip}},
	{"gzip, deflate, br", []Coding{Brotli, Gzip}},
	{"gzip, deflate", []Coding{Gzip}},
	{"gzip", []Coding{Gzip}},
	{"br", []Coding{Brotli}},
	{"zstd", []Coding{Zstd}},
	{"identity", nil},
}

func rankCodings(lines []string) []Coding {
	wishes := preferences(lines)
	least := 0 // identity is always allowed, but a named coding goes before it
	if slices.ContainsFunc(wishes, func(p preference) bool { return p.coding == "identity" }) {
		least = weightOf(wishes, "identity")
	}
	var ranked []Coding
	for _, c := range Codings {
		if weightOf(wishes, string(c)) > least {
			ranked = append(ranked, c)
		}
	}
	slices.SortStableFunc(ranked, func(a, b Coding) int { return weightOf(wishes, string(b)) - weightOf(wishes, string(a)) })
	return ranked
}

// QuickCoding picks what is made while a visitor waits: Zstd or Gzip, whichever they like
// better, if they like it; Brotli takes too long for that.
func QuickCoding(request Header) Coding {
	wishes := preferences(request["Accept-Encoding"])
	best, bestWeight := Identity, 0
	for _, c := range [...]Coding{Zstd, Gzip} {
		if w := weightOf(wishes, string(c)); w > bestWeight {
			best, bestWeight = c, w
		}
	}
	if slices.ContainsFunc(wishes, func(p preference) bool { return p.coding == "identity" && p.weight > bestWeight }) {
		return Identity
	}
	return best
}

// EncodingsOf are the content codings of a stored response, in lower case; nil if it has
// none.
func EncodingsOf(response Header) []string {
	var codings []string
	for _, line := range response["Content-Encoding"] {
		for coding := range strings.SplitSeq(line, ",") {
			if coding = strings.ToLower(strings.TrimSpace(coding)); coding != "" && coding != "identity" {
				codings = append(codings, coding)
			}
		}
	}
	return codings
}

// Accepts reports whether a request takes an answer in these codings. Without
// Accept-Encoding it takes none: RFC 9110 §12.5.3 would allow any, but who says nothing
// mostly can read nothing.
func Accepts(request Fields, codings []string) bool {
	if len(codings) == 0 {
		return true
	}
	wishes := preferences(request.Lines("Accept-Encoding"))
	for _, coding := range codings {
		if coding == "x-gzip" { // RFC 9110 §8.4.1.3: the same
			coding = string(Gzip)
		}
		if weightOf(wishes, coding) == 0 {
			return false
		}
	}
	return true
}

func weightOf(wishes []preference, coding string) int {
	any := 0
	for _, p := range wishes {
		if p.coding == coding {
			return p.weight
		}
		if p.coding == "*" {
			any = p.weight
		}
	}
	return any
}

// NormalEncoding is the one way in which a visitor's Accept-Encoding is written, for
// origins and for Vary: the codings that are in use and welcome, by weight and then by
// name. What nobody can answer with is left out, so that visitors share variants.
func NormalEncoding(lines []string) string {
	wishes := preferences(lines)
	var kept []preference
	for _, known := range []string{"br", "gzip", "identity", "zstd"} {
		w := weightOf(wishes, known)
		named := slices.ContainsFunc(wishes, func(p preference) bool { return p.coding == known })
		if known == "identity" && !(named && w == 0) {
			continue // always welcome unless it is refused
		}
		if w > 0 || known == "identity" {
			kept = append(kept, preference{known, w})
		}
	}
	slices.SortStableFunc(kept, func(a, b preference) int { return b.weight - a.weight })
	parts := make([]string, len(kept))
	for i, p := range kept {
		switch {
		case p.coding == "identity":
			parts[i] = "identity;q=0"
		case i > 0 && p.weight < kept[0].weight:
			parts[i] = p.coding + ";q=" + strconv.FormatFloat(float64(p.weight)/1000, 'f', -1, 64)
		default:
			parts[i] = p.coding
		}
	}
	return strings.Join(parts, ", ")
}

// compressible are the types that gain by compression.
var compressible = []string{"application/json", "application/javascript", "application/xml", "application/xhtml+xml", "application/manifest+json", "application/wasm", "application/graphql-response+json", "image/svg+xml", "font/ttf", "font/otf"}

// MayCompress reports whether a stored answer may be given other codings and gains by it:
// it has none yet, nobody forbade it (no-transform, RFC 9111 §5.2.2.6), and it is text
// of some length.
func MayCompress(status int, header Header, d Directives, size int) bool {
	if status != 200 || size < 512 || d.NoTransform || header.Has("Content-Encoding") || header.Has("Content-Range") {
		return false
	}
	kind := MediaType(header.Get("Content-Type"))
	return strings.HasPrefix(kind, "text/") && kind != "text/event-stream" || slices.Contains(compressible, kind) ||
		strings.HasSuffix(kind, "+json") || strings.HasSuffix(kind, "+xml")
}

// CodedTag is the entity tag of another coding of a response: a strong one must differ
// from the original's (RFC 9110 §8.8.3.3).
func CodedTag(etag string, c Coding) string {
	if c == Identity || etag == "" || strings.HasPrefix(etag, "W/") {
		return etag
	}
	if !strings.HasSuffix(etag, `"`) {
		return etag + "+" + string(c) // an origin that does not quote its tags
	}
	return strings.TrimSuffix(etag, `"`) + "+" + string(c) + `"`
}
