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

// draw picks some by chance, half of them each as likely as any other, half each byte so; false if
// there is none.
func (d *settled) draw(places []uint32, chance func() uint64) bool {
	var upTo [2][classes]uint64 // by how many entries, by how many bytes
	count, bytes := uint64(0), uint64(0)
	for i := range d.classes {
		count += uint64(len(d.classes[i].places))
		bytes += uint64(d.classes[i].bytes)
		upTo[0][i], upTo[1][i] = count, bytes
	}
	if count == 0 {
		return false
	}
	for i := range places {
		sums := &upTo[i%2]
		at, _ := bits.Mul64(chance(), sums[classes-1])
		class := 0
		for sums[class] <= at {
			class++
		}
		among, _ := bits.Mul64(chance(), uint64(len(d.classes[class].places)))
		places[i] = d.classes[class].places[among]
	}
	return true
}

func (d *settled) memory() (bytes int64) {
	for i := range d.classes {
		bytes += int64(cap(d.classes[i].places)) * 4
	}
	return bytes
}
