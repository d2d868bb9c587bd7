package worth

import "math/bits"

// settled are the entries that are no newcomers, by size, so that those of any size can be drawn
// by chance.
type settled struct {
	classes [classes]class
	count   int
	bytes   int64
}

// class holds the places of entries whose sizes are within a factor of four.
type class struct {
	places []uint32
	bytes  int64
}

const classes = 16

func classOf(size uint32) int { return (bits.Len32(size) - 1) / 2 }

func (d *settled) add(all *slots, place uint32) {
	e := all.at(place)
	c := &d.classes[classOf(e.size)]
	e.older, e.newer = 0, uint32(len(c.places))
	c.places = append(c.places, place)
	c.bytes += bytesOf(e.size)
	d.count++
	d.bytes += bytesOf(e.size)
}

func (d *settled) remove(all *slots, place uint32) {
	e := all.at(place)
	c := &d.classes[classOf(e.size)]
	last := len(c.places) - 1
	moved := c.places[last]
	c.places[e.newer] = moved
	all.at(moved).newer = e.newer
	c.places = c.places[:last]
	c.bytes -= bytesOf(e.size)
	d.count--
	d.bytes -= bytesOf(e.size)
}

// draw picks one by two numbers by chance: each entry as likely as any other, or each byte.
func (d *settled) draw(which, within uint64, byCount bool) (place uint32, ok bool) {
	if d.count == 0 {
		return 0, false
	}
	at, _ := bits.Mul64(which, uint64(d.weight(byCount)))
	for i := range d.classes {
		c := &d.classes[i]
		weight := uint64(c.bytes)
		if byCount {
			weight = uint64(len(c.places))
		}
		if at < weight {
			among, _ := bits.Mul64(within, uint64(len(c.places)))
			return c.places[among], true
		}
		at -= weight
	}
	return 0, false
}

func (d *settled) weight(byCount bool) int64 {
	if byCount {
		return int64(d.count)
	}
	return d.bytes
}
