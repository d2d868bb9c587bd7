package store

import "sync/atomic"

// ghosts remember why keys left, so that a miss can say so. It is a table of fixed
// size in which a newer ghost takes the place of an older one: a hint for reports,
// never a ground for a decision.
type ghosts []atomic.Uint32 // part of a hash, with the removal reason + 1 in the low bits

const ghostReason = 0b111

func newGhosts(limit int64) ghosts {
	n := 1 << 10
	for n < 1<<16 && int64(n)*8*256 < limit {
		n <<= 1
	}
	return make(ghosts, n)
}

func (g ghosts) remember(tag uint32, why Removal) {
	g[tag>>8%uint32(len(g))].Store(tag&^ghostReason | uint32(why+1))
}

func (g ghosts) of(tag uint32) (why Removal, ok bool) {
	v := g[tag>>8%uint32(len(g))].Load()
	if v == 0 || v&^ghostReason != tag&^ghostReason {
		return 0, false
	}
	return Removal(v&ghostReason) - 1, true
}
