package worth

import "math/bits"

// settled are the entries that are no newcomers, by size, so that those of any size can be drawn
// by chance.
type settled struct {
	classes [classes]class
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
}

// byCount weighs a class by its entries, byBytes by their bytes.
func byCount(c *class) uint64 { return uint64(len(c.places)) }
func byBytes(c *class) uint64 { return uint64(c.bytes) }

// draw picks one by two numbers by chance.
func (d *settled) draw(which, within uint64, weight func(*class) uint64) (place uint32, ok bool) {
	sum := uint64(0)
	for i := range d.classes {
		sum += weight(&d.classes[i])
	}
	at, _ := bits.Mul64(which, sum)
	for i := range d.classes {
		c := &d.classes[i]
		w := weight(c)
		if at < w {
			among, _ := bits.Mul64(within, uint64(len(c.places)))
			return c.places[among], true
		}
		at -= w
	}
	return 0, false
}

func (d *settled) memory() (bytes int64) {
	for i := range d.classes {
		bytes += int64(cap(d.classes[i].places)) * 4
	}
	return bytes
}
