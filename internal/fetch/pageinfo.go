package fetch

import (
	"gerastic.example/client/protocol"

	"gerastic/internal/core/httprules"
	"gerastic/internal/core/meter"
	"gerastic/internal/core/store"
	"gerastic/internal/core/tags"
)

// pageInfo is what an answer says of the fragments in it.
type pageInfo struct {
	life  *protocol.Life // of the shortest-lived, and as of when they were found; nil: it is not said
	parts []string       // those that the page itself is made of
	lines []string       // of protocol.PartsField, for engineers
	work  meter.Work     // that it took
}

// parsePageInfo reads what an answer says of its fragments, and takes it out of the header.
func parsePageInfo(h httprules.Header) pageInfo {
	info := pageInfo{lines: h[protocol.PartsField]}
	info.parts = protocol.ParseDirectParts(info.lines)
	if life, ok := protocol.ParseLife(h[protocol.LifeField]); ok {
		info.life = &life
	}
	info.work = meter.WorkOf(h[protocol.WorkField], h["Server-Timing"])
	delete(h, protocol.WorkField) // the counts are not for visitors
	delete(h, protocol.LifeField)
	delete(h, protocol.PartsField)
	return info
}

// bound holds a page to what its fragments allow: it is not fresh for longer than they are, and
// not newer than what they were found as of, on whichever node that was.
func (info *pageInfo) bound(page *store.Entry) {
	if info.life == nil {
		return
	}
	page.LifeLimit = max(0, info.life.Left)
	page.Freshness.Lifetime = min(page.Freshness.Lifetime, page.LifeLimit)
	if info.life.Dated {
		page.Subject.Stamp = min(page.Subject.Stamp, tags.Stamp(info.life.AsOf))
	}
}
