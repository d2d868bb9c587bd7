package worth

import (
	"container/heap"
	"container/list"
	"math"
)

// cache is one for comparison: it is told of requests, and says whether it had the answer.
type cache interface {
	ask(i int, r request) (had bool)
}

// known is what the caches for comparison know of an entry.
type known struct {
	request
	at    *list.Element
	in    *list.List
	used  int
	rank  float64
	place int
	next  int
}

// lru: the least recently used goes.
type lru struct {
	room  int64
	all   map[uint64]*known
	queue *list.List
}

func newLRU(room int64) cache { return &lru{room, map[uint64]*known{}, list.New()} }

func (c *lru) ask(_ int, r request) bool {
	if k := c.all[r.key]; k != nil {
		c.queue.MoveToFront(k.at)
		return true
	}
	for c.room -= r.size; c.room < 0 && c.queue.Len() > 0; {
		old := c.queue.Remove(c.queue.Back()).(*known)
		delete(c.all, old.key)
		c.room += old.size
	}
	k := &known{request: r}
	k.at = c.queue.PushFront(k)
	c.all[r.key] = k
	return false
}

// gdsf: GreedyDual-Size with Frequency (Cherkasova, 1998).
type gdsf struct {
	room int64
	age  float64
	all  map[uint64]*known
	heap ranks
}

type ranks []*known

func (h ranks) Len() int           { return len(h) }
func (h ranks) Less(i, j int) bool { return h[i].rank < h[j].rank }
func (h ranks) Swap(i, j int)      { h[i], h[j] = h[j], h[i]; h[i].place, h[j].place = i, j }
func (h *ranks) Push(x any)        { k := x.(*known); k.place = len(*h); *h = append(*h, k) }
func (h *ranks) Pop() any {
	old := *h
	k := old[len(old)-1]
	*h = old[:len(old)-1]
	return k
}

func newGDSF(room int64) cache { return &gdsf{room: room, all: map[uint64]*known{}} }

func (c *gdsf) ask(_ int, r request) bool {
	k := c.all[r.key]
	had := k != nil
	if !had {
		k = &known{request: r}
		for c.room -= r.size; c.room < 0 && len(c.heap) > 0; {
			old := heap.Pop(&c.heap).(*known)
			c.age = old.rank
			delete(c.all, old.key)
			c.room += old.size
		}
		c.all[r.key] = k
		heap.Push(&c.heap, k)
	}
	k.used++
	k.rank = c.age + float64(k.used)*r.cost/float64(r.size)
	heap.Fix(&c.heap, k.place)
	return had
}

// sieve: one hand over a queue that keeps its order (Zhang and others, 2024).
type sieve struct {
	room  int64
	all   map[uint64]*known
	queue *list.List
	hand  *list.Element
}

func newSieve(room int64) cache {
	return &sieve{room: room, all: map[uint64]*known{}, queue: list.New()}
}

func (c *sieve) ask(_ int, r request) bool {
	if k := c.all[r.key]; k != nil {
		k.used = 1
		return true
	}
	for c.room -= r.size; c.room < 0 && c.queue.Len() > 0; {
		if c.hand == nil {
			c.hand = c.queue.Back()
		}
		k, before := c.hand.Value.(*known), c.hand.Prev()
		if k.used > 0 {
			k.used = 0
		} else {
			c.queue.Remove(c.hand)
			delete(c.all, k.key)
			c.room += k.size
		}
		c.hand = before
	}
	k := &known{request: r}
	k.at = c.queue.PushFront(k)
	c.all[r.key] = k
	return false
}

// s3fifo: a small queue, a main one, and ghosts (Yang and others, 2023).
type s3fifo struct {
	room, small, held  int64
	all                map[uint64]*known
	first, main, ghost *list.List
	ghosts             map[uint64]*list.Element
}

func newS3FIFO(room int64) cache {
	return &s3fifo{room: room, small: room / 10, all: map[uint64]*known{}, first: list.New(), main: list.New(), ghost: list.New(), ghosts: map[uint64]*list.Element{}}
}

func (c *s3fifo) ask(_ int, r request) bool {
	if k := c.all[r.key]; k != nil {
		k.used = min(3, k.used+1)
		return true
	}
	for c.room -= r.size; c.room < 0 && len(c.all) > 0; {
		if c.held > c.small || c.main.Len() == 0 {
			c.evictFirst()
		} else {
			c.evictMain()
		}
	}
	k := &known{request: r}
	c.all[r.key] = k
	if at, ok := c.ghosts[r.key]; ok {
		c.ghost.Remove(at)
		delete(c.ghosts, r.key)
		c.put(k, c.main)
	} else {
		c.put(k, c.first)
		c.held += r.size
	}
	return false
}

func (c *s3fifo) put(k *known, in *list.List) { k.in, k.at = in, in.PushFront(k) }

func (c *s3fifo) evictFirst() {
	k := c.first.Remove(c.first.Back()).(*known)
	c.held -= k.size
	if k.used > 1 {
		k.used = 0
		c.put(k, c.main)
		return
	}
	delete(c.all, k.key)
	c.room += k.size
	c.ghosts[k.key] = c.ghost.PushFront(k.key)
	if c.ghost.Len() > len(c.all)+1 {
		delete(c.ghosts, c.ghost.Remove(c.ghost.Back()).(uint64))
	}
}

func (c *s3fifo) evictMain() {
	k := c.main.Remove(c.main.Back()).(*known)
	if k.used > 0 {
		k.used--
		c.put(k, c.main)
		return
	}
	delete(c.all, k.key)
	c.room += k.size
}

// tinyLFU: a window, a segmented main part, and a sketch that admits (Einziger and others, 2017).
type tinyLFU struct {
	room                 int64
	all                  map[uint64]*known
	window, trial, safe  *list.List
	held                 map[*list.List]int64
	windowRoom, safeRoom int64
	sketch               [4][]uint8
	counted              int
}

func newTinyLFU(room int64) cache {
	c := &tinyLFU{room: room, all: map[uint64]*known{}, window: list.New(), trial: list.New(), safe: list.New(), held: map[*list.List]int64{}, windowRoom: room / 100}
	c.safeRoom = (room - c.windowRoom) * 8 / 10
	for i := range c.sketch {
		c.sketch[i] = make([]uint8, 1<<17)
	}
	return c
}

func (c *tinyLFU) cell(row int, key uint64) *uint8 {
	return &c.sketch[row][int(scattered(key, uint64(row)+10)*(1<<17))]
}

func (c *tinyLFU) count(key uint64) {
	for row := range c.sketch {
		if cell := c.cell(row, key); *cell < 15 {
			*cell++
		}
	}
	if c.counted++; c.counted >= 10*max(1000, len(c.all)) {
		c.counted = 0
		for row := range c.sketch {
			for i := range c.sketch[row] {
				c.sketch[row][i] /= 2
			}
		}
	}
}

func (c *tinyLFU) often(key uint64) uint8 {
	least := uint8(255)
	for row := range c.sketch {
		least = min(least, *c.cell(row, key))
	}
	return least
}

func (c *tinyLFU) move(k *known, to *list.List) {
	if k.in != nil {
		k.in.Remove(k.at)
		c.held[k.in] -= k.size
	}
	k.in = to
	if to != nil {
		k.at = to.PushFront(k)
		c.held[to] += k.size
	}
}

func (c *tinyLFU) drop(k *known) {
	c.move(k, nil)
	delete(c.all, k.key)
	c.room += k.size
}

func (c *tinyLFU) ask(_ int, r request) bool {
	c.count(r.key)
	if k := c.all[r.key]; k != nil {
		switch k.in {
		case c.window:
			c.move(k, c.window)
		default:
			c.move(k, c.safe)
			for c.held[c.safe] > c.safeRoom {
				c.move(c.safe.Back().Value.(*known), c.trial)
			}
		}
		return true
	}
	k := &known{request: r}
	c.all[r.key] = k
	c.room -= r.size
	c.move(k, c.window)
	for c.held[c.window] > c.windowRoom && c.room >= 0 && c.window.Len() > 1 {
		c.move(c.window.Back().Value.(*known), c.trial)
	}
	for c.room < 0 && len(c.all) > 1 {
		c.contest()
	}
	return false
}

func (c *tinyLFU) contest() {
	victim := c.trial.Back()
	if victim == nil {
		victim = c.safe.Back()
	}
	if victim == nil || c.held[c.window] <= c.windowRoom {
		if victim == nil {
			victim = c.window.Back()
		}
		c.drop(victim.Value.(*known))
		return
	}
	newcomer, old := c.window.Back().Value.(*known), victim.Value.(*known)
	if c.often(newcomer.key) > c.often(old.key) {
		c.drop(old)
		c.move(newcomer, c.trial)
	} else {
		c.drop(newcomer)
	}
}

// clairvoyant knows when each key is asked for next: who saves least for its bytes until then
// goes, of 64 that are looked at. It is no bound in the strict sense, and better than any policy
// that does not know.
type clairvoyant struct {
	room  int64
	next  []int
	all   map[uint64]*known
	heap  ranks
	drawn uint64
}

func newClairvoyant(room int64, trace []request) cache {
	c := &clairvoyant{room: room, next: make([]int, len(trace)), all: map[uint64]*known{}, drawn: 1}
	later := map[uint64]int{}
	for i := len(trace) - 1; i >= 0; i-- {
		c.next[i] = math.MaxInt
		if at, ok := later[trace[i].key]; ok {
			c.next[i] = at
		}
		later[trace[i].key] = i
	}
	return c
}

func (c *clairvoyant) ask(i int, r request) bool {
	if k := c.all[r.key]; k != nil {
		if k.next = c.next[i]; k.next == math.MaxInt {
			c.drop(k)
		}
		return true
	}
	if c.next[i] == math.MaxInt {
		return false
	}
	k := &known{request: r, next: c.next[i]}
	c.all[r.key] = k
	c.room -= r.size
	heap.Push(&c.heap, k)
	for c.room < 0 {
		c.drop(c.least(i))
	}
	return false
}

func (c *clairvoyant) drop(k *known) {
	heap.Remove(&c.heap, k.place)
	delete(c.all, k.key)
	c.room += k.size
}

func (c *clairvoyant) least(now int) *known {
	var least *known
	worth := math.Inf(1)
	for range 64 {
		c.drawn = c.drawn*6364136223846793005 + 1442695040888963407
		k := c.heap[int(c.drawn>>33)%len(c.heap)]
		if w := k.cost / float64(k.size) / float64(k.next-now); w < worth {
			least, worth = k, w
		}
	}
	return least
}
