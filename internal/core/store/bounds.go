package store

// Some entries are bounded together: those of a route, or of an application. The name of a bound is
// a term like a tag, so that its postings find who may go, but no purge names it.

// boundTerm is the word that stands for a bound; no tag begins with such a byte.
func boundTerm(name string) string { return "\x01" + name }

// bounded counts what a record takes for its bound. Under mu.
func (m *Memory) bounded(r *record, bytes int64) {
	if !r.has(isBounded) {
		return
	}
	number := r.slots()[len(r.slots())-1].word
	if m.bounds[number] += bytes; m.bounds[number] == 0 {
		delete(m.bounds, number)
	}
}

// sampledOfBound is how many are looked at for one that goes.
const sampledOfBound = 16

// makeRoomWithin evicts entries of a bound until so many bytes more fit into it; false if they are
// more than it has at all. Under mu.
func (m *Memory) makeRoomWithin(b Bound, size int64) bool {
	if b.Name == "" {
		return true
	}
	number, known := m.words.known(boundTerm(b.Name))
	for known && m.bounds[number]+size > b.AtMost {
		victim := m.leastOf(number)
		if victim == nil {
			break
		}
		m.remove(victim, Evicted)
	}
	return size <= b.AtMost
}

// leastOf is about the least worth of a bound's entries.
func (m *Memory) leastOf(number uint32) (least *record) {
	posted := &m.words.at(number).posted
	n := posted.len()
	for i := range min(n, sampledOfBound) {
		at := i
		if n > sampledOfBound {
			m.turn = m.turn*6364136223846793005 + 1442695040888963407
			at = int(m.turn>>33) % n
		}
		if r := m.index.record(posted.at(at).place); least == nil || m.policy.Worth(r.place) < m.policy.Worth(least.place) {
			least = r
		}
	}
	return least
}
