package resident

// Class is a part of the resident memory.
type Class struct {
	Name  string
	Bytes int64
}

// Account is what is kept for caching, by what its owner counted.
type Account struct {
	Entries, Ready, Index, Fills, Leaving, Aside int64 // bytes
	Connections                                  int64 // how many are open
}

// stored is what the store's own account is of, see Store.Counted.
func (a Account) stored() int64 {
	return a.Entries + a.Ready + a.Index + a.Fills + a.Leaving + a.Aside
}

// connectionBytes is what an open connection takes of the heap: its buffers, and what belongs to
// the request on it (measured). Its stack is among the stacks.
const connectionBytes = 14 << 10

// Classes says what the resident memory consists of. Each class is counted or measured by itself;
// that they add up to what the system says is for tests to find out.
func (k *Keeper) Classes(a Account) []Class {
	k.mu.Lock()
	defer k.mu.Unlock()
	now := Look()
	k.notice(now, a.stored())
	return []Class{
		{"entries", a.Entries}, {"ready", a.Ready}, {"index", a.Index}, {"fills", a.Fills}, {"leaving", a.Leaving}, {"marks", a.Aside},
		{"connections", a.Connections * connectionBytes},
		{"program", k.program}, {"file", now.File},
		// What has come since the last collection, but for what was kept of it, and what was given up since.
		{"uncollected", max(0, now.Garbage()-(a.stored()-k.counted))},
		{"scattered", now.Unused}, {"free", now.Free}, {"stacks", now.Stacks}, {"runtime", now.Runtime},
	}
}

// notice remembers what was counted when there was a collection.
func (k *Keeper) notice(now Sample, counted int64) {
	if now.Cycles != k.cycles {
		k.cycles, k.counted = now.Cycles, counted
	}
}
