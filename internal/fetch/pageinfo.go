package fetch

import (
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
	PartsField = "Gerastic-Parts"
)

// pageInfo is what an answer says of the fragments in it.
type pageInfo struct {
	life  time.Duration // that the shortest-lived still has; httprules.Unset if it does not say
	asOf  tags.Stamp    // ledger sequence as of which they were found
	dated bool          // it says as of when
	parts []string      // those that the page itself is made of
	lines []string      // of PartsField, for engineers
}

// parsePageInfo reads what an answer says of its fragments, and takes it out of the header.
func parsePageInfo(h httprules.Header) pageInfo {
	t := pageInfo{life: httprules.Unset, lines: h[PartsField]}
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
	delete(h, PartsField)
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
func (t *pageInfo) bound(page *store.Entry) {
	if t.life != httprules.Unset {
		page.Most = max(0, t.life)
		page.Freshness.Lifetime = min(page.Freshness.Lifetime, page.Most)
	}
	if t.dated {
		page.Subject.Stamp = min(page.Subject.Stamp, t.asOf)
	}
}
