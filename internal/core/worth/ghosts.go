package worth

import "math"

// ghost remembers the use of what left. A tag of its key's hash is enough: taking one for another
// is rare, and costs a little time only.
type ghost struct {
	tag  uint32
	when uint32
	use  half // 0: nobody
	cost half
}

// half is the upper half of a positive float32: a number to two or three digits.
type half uint16

func halfOf(f float32) half   { return half(math.Float32bits(f*(1+1./512)) >> 16) }
func (h half) float() float32 { return math.Float32frombits(uint32(h) << 16) }

// ghosts are a table of small buckets that grows by one bucket at a time (linear hashing; Litwin,
// 1980), so that growing never takes long.
type ghosts struct {
	chunks []*[bucketChunk]bucket
	count  uint32 // of buckets
	level  uint32 // the power of two for which level ≤ count < 2·level
}

type bucket [4]ghost

const bucketChunk = 32

func (g *ghosts) bucket(i uint32) *bucket { return &g.chunks[i/bucketChunk][i%bucketChunk] }

// of is the bucket of a tag: the first count-level buckets have been split.
func (g *ghosts) of(tag uint32) uint32 {
	if i := tag & (2*g.level - 1); i < g.count {
		return i
	}
	return tag & (g.level - 1)
}

// grow makes room for so many, two buckets at most at a time.
func (g *ghosts) grow(entries int64) {
	for range 2 {
		if g.count > 0 && int64(g.count)*int64(len(bucket{})) >= entries {
			return
		}
		if g.count%bucketChunk == 0 {
			g.chunks = append(g.chunks, new([bucketChunk]bucket))
		}
		before := g.level
		g.count++
		if g.level = max(1, g.level); g.count == 2*g.level {
			g.level = g.count
		}
		if g.count > 1 {
			g.split(g.count-1-before, g.count-1)
		}
	}
}

// split moves those of a bucket that belong to a new one.
func (g *ghosts) split(from, to uint32) {
	old, fresh := g.bucket(from), g.bucket(to)
	n := 0
	for i := range old {
		if old[i].use > 0 && g.of(old[i].tag) == to {
			fresh[n], n = old[i], n+1
			old[i] = ghost{}
		}
	}
}

// take returns the ghost of a tag; nil if there is none.
func (g *ghosts) take(tag uint32) *ghost {
	if g.count == 0 {
		return nil
	}
	b := g.bucket(g.of(tag))
	for i := range b {
		if b[i].tag == tag && b[i].use > 0 {
			return &b[i]
		}
	}
	return nil
}

// put remembers one in place of that of its bucket whose use counts least now.
func (g *ghosts) put(s *shelf, one ghost) {
	if g.count == 0 {
		return
	}
	b := g.bucket(g.of(one.tag))
	least, at := float32(0), 0
	for i := range b {
		if b[i].use == 0 || b[i].tag == one.tag {
			at = i
			break
		}
		if left := b[i].use.float() * s.decay(b[i].when); i == 0 || left < least {
			least, at = left, i
		}
	}
	b[at] = one
}
