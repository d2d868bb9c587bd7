package edge

import (
	"strings"
	"time"

	"github.com/dunglas/httpsfv"

	"gerastic/internal/core/httprules"
	"gerastic/internal/core/store"
	"gerastic/internal/core/tags"
)

// Fields in which an application that makes its pages of fragments tells of them; see
// client.LifeHeader and client.PartsHeader. They are for the edge, and go no further.
const (
	lifeField  = "Gerastic-Life"
	partsField = "Gerastic-Parts"
)

// told is what an answer says of the fragments in it.
type told struct {
	life  time.Duration // that the shortest-lived still has; httprules.Unset if it does not say
	asOf  tags.Stamp    // ledger sequence as of which they were found
	dated bool          // it says as of when
	parts []string      // those that the page itself is made of
	lines []string      // of partsField, for engineers
}

// listen reads what an answer tells, and takes it out of the header.
func listen(h httprules.Header) told {
	t := told{life: httprules.Unset, lines: h[partsField]}
	if item, err := httpsfv.UnmarshalItem(h[lifeField]); err == nil && len(h[lifeField]) > 0 {
		switch v := item.Value.(type) {
		case float64:
			t.life = time.Duration(v * float64(time.Second))
		case int64:
			t.life = time.Duration(min(v, 1<<31)) * time.Second
		}
		if asOf, ok := item.Params.Get("as-of"); ok {
			if n, isNumber := asOf.(int64); isNumber && n >= 0 {
				t.asOf, t.dated = tags.Stamp(n), true
			}
		}
	}
	if list, err := httpsfv.UnmarshalList(t.lines); err == nil {
		for _, member := range list {
			if part, ok := member.(httpsfv.Item); ok {
				if depth, _ := part.Params.Get("depth"); depth == int64(1) {
					t.parts = append(t.parts, textOf(part.Value))
				}
			}
		}
	}
	delete(h, lifeField)
	delete(h, partsField)
	return t
}

func textOf(v any) string {
	switch v := v.(type) {
	case string:
		return v
	case httpsfv.DisplayString:
		return string(v)
	}
	return ""
}

// bound holds a page to what its pieces allow: it is not fresh for longer than they are, and
// not newer than what they were found as of, on whichever node that was.
func (t *told) bound(page *store.Entry) {
	if t.life != httprules.Unset {
		page.Most = max(0, t.life)
		page.Freshness.Lifetime = min(page.Freshness.Lifetime, page.Most)
	}
	if t.dated {
		page.Subject.Stamp = min(page.Subject.Stamp, t.asOf)
	}
}

// composes tells whether an answer is a skeleton: the route says so, or the origin does, with
// Surrogate-Control. Only text that is not compressed can be read.
func composes(byRoute bool, h httprules.Header) bool {
	if h.Has("Content-Encoding") {
		return false
	}
	kind, _, _ := strings.Cut(strings.ToLower(h.Get("Content-Type")), ";")
	kind = strings.TrimSpace(kind)
	if kind == "text/event-stream" { // it has no end to wait for
		return false
	}
	if !strings.HasPrefix(kind, "text/") && !strings.HasSuffix(kind, "xml") && kind != "application/json" {
		return false
	}
	return byRoute || surrogate(h)
}

// surrogate tells whether Surrogate-Control asks for composition.
func surrogate(h httprules.Header) bool {
	for _, line := range h["Surrogate-Control"] {
		for directive := range strings.SplitSeq(line, ",") {
			name, value, _ := strings.Cut(strings.TrimSpace(directive), "=")
			if strings.EqualFold(name, "content") && strings.Contains(value, "ESI/1.0") {
				return true
			}
		}
	}
	return false
}
