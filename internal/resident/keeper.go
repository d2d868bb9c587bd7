package resident

import (
	"context"
	"runtime"
	"runtime/debug"
	"sync"
	"time"
)

const (
	mib = 1 << 20
	// beside is what the process may take besides the memory for caching, and a share of that:
	// the program itself, connections, requests under way, and what waits for the collector.
	beside = 96 * mib
	// leastSpare is what is kept free below the bound, and a share of it: what comes while the
	// collector works.
	leastSpare = 12 * mib
	spareShare = 24
	// leastGarbage is how much garbage may be there before it is collected, and garbageShare which
	// share of what lives.
	leastGarbage = 16 * mib
	garbageShare = 16
	// ahead is for how long there should be no need to collect.
	ahead = 4 * time.Second
	// often is how often the process looks at itself.
	often = 200 * time.Millisecond
	// usualUnused is which part of the objects is usually unused between them.
	usualUnused = 16
	// quiet is how little is allocated meanwhile when nothing happens.
	quiet = mib
)

// Bound is the most that the resident memory of a process is to be, with so much for caching.
func Bound(memory int64) int64 { return memory + memory*15/100 + beside }

// Store is what memory can be had from.
type Store interface {
	// Squeeze makes the store do with so many bytes less.
	Squeeze(bytes int64)
	// Counted is how many bytes it says that it takes.
	Counted() int64
}

// Keeper holds a process to its memory. The collector belongs to the whole process, so that there
// is one Keeper in it.
type Keeper struct {
	bound int64
	spare int64 // of it
	store Store

	mu       sync.Mutex // what is known since the last look
	last     Sample
	percent  int
	soft     int64
	over     int64 // that the store gave up since the process took too much
	squeezed int64 // that it gave up in all
	restless bool  // something was allocated since it was quiet
	program  int64 // what lived before anything was stored
	cycles   int64 // of collection, when counted was noticed
	counted  int64 // that the store took then
}

// New returns a keeper for so much memory for caching, of which store has most. What lives now is
// the program.
func New(memory int64, store Store) *Keeper {
	runtime.GC()
	bound := Bound(memory)
	k := &Keeper{bound: bound, spare: leastSpare + bound/spareShare, store: store, last: Look()}
	k.program = k.last.Live
	return k
}

// Watch holds the process to its memory until the context ends.
func (k *Keeper) Watch(ctx context.Context) {
	k.look()
	tick := time.NewTicker(often)
	defer tick.Stop()
	for {
		select {
		case <-tick.C:
			k.look()
		case <-ctx.Done():
			return
		}
	}
}

func (k *Keeper) look() {
	k.mu.Lock()
	defer k.mu.Unlock()
	now := Look()
	allocated := now.Allocated - k.last.Allocated
	k.last = now
	k.notice(now, k.store.Counted())
	k.adjust(now, allocated)
	k.squeeze(now)
	switch waste := now.Garbage() + now.Free; {
	case allocated > quiet:
		k.restless = true
	case k.restless && waste > leastGarbage/2:
		k.restless = false
		debug.FreeOSMemory()
	}
}

// adjust tells the collector how much garbage there may be: as much as comes for a while, if there
// is room for it.
func (k *Keeper) adjust(now Sample, allocated int64) {
	soft := k.bound - now.File - k.spare
	if soft-k.soft > mib || k.soft-soft > mib {
		k.soft = soft
		debug.SetMemoryLimit(soft)
	}
	live := max(now.Live, mib)
	least := leastGarbage + live/garbageShare
	room := (soft - live - now.Stacks - now.Runtime) * 8 / 10
	garbage := max(least, min(allocated*int64(ahead/often), room))
	percent := int(min(100*garbage/live, 1000))
	if 4*percent > 5*k.percent || 5*percent < 4*k.percent {
		k.percent = percent
		debug.SetGCPercent(percent)
	}
}

// squeeze takes from the store what its account knows nothing of: memory between objects that is
// too scattered to be used, and what the process has beyond its bound.
func (k *Keeper) squeeze(now Sample) {
	switch over := now.Resident - (k.bound - k.spare/2); {
	case over > 0:
		k.over += over
	case over < -k.spare/2 && k.over > 0:
		k.over -= max(k.over/16, min(k.over, mib))
	}
	scattered := max(0, now.Unused-now.Objects/usualUnused)
	if squeezed := k.over + scattered; squeezed/mib != k.squeezed/mib {
		k.squeezed = squeezed
		k.store.Squeeze(squeezed)
	}
}
