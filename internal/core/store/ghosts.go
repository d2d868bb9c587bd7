package store

import "sync/atomic"

// ghosts remember why keys left, so that a miss can say so. It is a table of fixed
// size in which a newer ghost takes the place of an older one: a hint for reports,
// never a ground for a decision.
type ghosts []atomic.Uint64 // hash, with the removal reason + 1 in the low bits

const ghostReason = 0b111

func newGhosts(limit int64) ghosts {
	n := 1 << 10
	for n < 1<<16 && int64(n)*8*256 < limit {
		n <<= 1
	}
	return make(ghosts, n)
}

func (g ghosts) remember(hash uint64, why Removal) {
	g[hash>>32%uint64(len(g))].Store(hash&^ghostReason | uint64(why+1))
}

func (g ghosts) of(hash uint64) (why Removal, ok bool) {
	v := g[hash>>32%uint64(len(g))].Load()
	if v == 0 || v&^ghostReason != hash&^ghostReason {
		return 0, false
	}
	return Removal(v&ghostReason) - 1, true
}
