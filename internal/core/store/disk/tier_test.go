package disk

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"gerastic/internal/core/httprules"
	"gerastic/internal/core/store"
	"gerastic/internal/core/tags"
)

// rig is a memory over a tier, and the ledger of purges that outlives both.
type rig struct {
	t      require.TestingT
	files  *memoryFiles
	limit  int64
	memory int64
	now    time.Time
	clock  atomic.Value // now, for others
	ledger []tags.Purge
	marks  *tags.Marks
	tier   *Tier
	store  *store.Memory
	end    func() // of what writes behind it
}

func newRig(t require.TestingT, memory, limit int64) *rig {
	r := &rig{t: t, files: newFiles(), limit: limit, memory: memory, now: time.Unix(1_800_000_000, 0)}
	r.tick(0)
	r.start()
	t.(interface{ Cleanup(func()) }).Cleanup(func() { r.end() })
	return r
}

// start starts on the files there are: what the ledger has beyond what was judged is applied again.
func (r *rig) start() {
	var at Judged
	var err error
	r.marks = tags.NewMarks(0, tags.DefaultLimit)
	if r.end != nil {
		r.end()
	}
	r.tier, at, err = Open(r.files, Options{Limit: r.limit, Index: r.memory / 4, Marks: r.marks, Epoch: r.now, Now: func() time.Time { return r.clock.Load().(time.Time) }})
	require.NoError(r.t, err)
	r.marks.Rewind(at.Sequence)
	r.store = store.NewMemory(r.memory, r.now)
	r.store.Over(r.tier, func() time.Time { return r.clock.Load().(time.Time) })
	ctx, cancel := context.WithCancel(context.Background())
	done, stored := make(chan struct{}), r.store
	go func() { defer close(done); stored.Descend(ctx) }()
	r.end = func() { cancel(); <-done }
	for _, p := range r.ledger {
		if p.Sequence > at.Sequence {
			r.apply(p)
		}
	}
	r.confirm()
}

func (r *rig) tick(d time.Duration) {
	r.now = r.now.Add(d)
	r.clock.Store(r.now)
}

func (r *rig) apply(p tags.Purge) store.Matched {
	r.marks.Apply(p)
	return r.store.Sweep(p)
}

func (r *rig) purge(p tags.Purge) store.Matched {
	p.Sequence = tags.Stamp(len(r.ledger) + 1)
	r.ledger = append(r.ledger, p)
	return r.apply(p)
}

func (r *rig) confirm() { _ = r.tier.Confirm(Judged{Sequence: r.marks.Stamp(), Row: "row"}) }

// stop is a clean end.
func (r *rig) stop() {
	r.end()
	r.store.Flush(context.Background())
	r.confirm()
	r.tier.Close()
}

// descend waits until everything that left memory is written.
func (r *rig) descend() {
	require.Eventually(r.t, func() bool { return r.store.Descending() == 0 }, 10*time.Second, time.Millisecond)
}

func (r *rig) entry(key, text string, names ...string) *store.Entry {
	r.tick(time.Millisecond)
	e := &store.Entry{
		Key: "r\x00" + key, Method: "GET", Scheme: "http", Subject: tags.Subject{Host: "x", Path: key, Route: "pages", Tags: names, Stamp: r.marks.Stamp()}, RouteTags: len(names),
		Fill: store.Fill{Stamp: r.marks.Stamp(), Began: r.now}, Status: 200, Header: httprules.Header{"Etag": {fmt.Sprintf("%q", text[:min(len(text), 20)])}, "Date": {httprules.FormatDate(r.now)}},
		Body: []byte(text), Received: r.now, Freshness: httprules.Freshness{Born: r.now, Lifetime: time.Hour}, Browser: httprules.Unset, Idle: httprules.Unset, LifeLimit: httprules.Unset,
	}
	e.Filled(nil, 50*time.Millisecond)
	e.Prepare()
	return e
}

func (r *rig) put(key, text string, names ...string) {
	require.NoError(r.t, r.store.Put(r.entry(key, text, names...), r.now))
}

// get is what is served for a key; "" if nothing is. A body may be far.
func (r *rig) get(key string) string {
	f := r.store.FindFar([]byte("r\x00"+key), nil)
	switch {
	case f.Entry == nil || f.Entry.Judge(r.marks) != tags.Alive:
		return ""
	case f.Entry.Far == nil:
		return string(f.Entry.Body)
	}
	body, err := f.Entry.Far.Open()
	if err != nil {
		return r.getNear(key)
	}
	defer body.Close()
	text, err := io.ReadAll(body.Section(0, f.Entry.Length()))
	require.NoError(r.t, err)
	return string(text)
}

// getNear is get where the body must be in memory.
func (r *rig) getNear(key string) string {
	f := r.store.Find([]byte("r\x00"+key), nil)
	if f.Entry == nil || f.Entry.Judge(r.marks) != tags.Alive {
		return ""
	}
	return string(f.Entry.Body)
}

// short is enough of a body to tell it.
func short(body string) string { return fmt.Sprintf("%.24s (%d bytes)", body, len(body)) }

// page is a body that tells its key and version, of some length.
func page(key string, version, length int) string {
	return fmt.Sprintf("%s#%d#", key, version) + strings.Repeat("~", length)
}

// TestWhatMemoryGivesUpComesBack: as it was, also after a restart; what was purged meanwhile does not.
func TestWhatMemoryGivesUpComesBack(t *testing.T) {
	r := newRig(t, 1<<20, 64<<20)
	const n = 400
	for i := range n {
		r.put(fmt.Sprint("/", i), page(fmt.Sprint("/", i), 1, 16<<10), "all", fmt.Sprint("t", i%10))
	}
	r.descend()
	there := 0
	for i := range n {
		if got := r.get(fmt.Sprint("/", i)); got != "" {
			there++
			require.Equal(t, short(page(fmt.Sprint("/", i), 1, 16<<10)), short(got))
		}
	}
	assert.Equal(t, n, there, "the disk has room for all that memory gave up")
	f, _ := r.store.LowerFigures()
	assert.EqualValues(t, n, f.Entries+r.store.Figures().Entries, "each is counted in one tier")
	e := r.store.Find([]byte("r\x00/7"), nil).Entry
	assert.Equal(t, []string{"all", "t7"}, e.Subject.Tags)
	assert.Equal(t, 50*time.Millisecond, e.Cost())
	assert.EqualValues(t, n/10, r.store.Preview(tags.Purge{Tags: []string{"t3"}}).Entries)
	matched := r.purge(tags.Purge{Tags: []string{"t3"}})
	assert.EqualValues(t, n/10, matched.Entries)
	assert.Equal(t, map[string]int64{"pages": n / 10}, matched.Routes)
	assert.Len(t, matched.Sample, store.SampleSize)
	assert.Regexp(t, "^http://x/[0-9]*3$", matched.Sample[0])
	assert.Zero(t, r.purge(tags.Purge{Tags: []string{"t3"}}).Entries, "each is counted once")
	assert.EqualValues(t, n/10, r.purge(tags.Purge{Tags: []string{"t4"}, Mode: tags.Soften}).Entries)
	r.stop()
	r.ledger = append(r.ledger, tags.Purge{Sequence: tags.Stamp(len(r.ledger) + 1), Tags: []string{"t5"}}) // while the node is down
	r.tick(time.Minute)
	r.start()
	for i := range n {
		key, want := fmt.Sprint("/", i), page(fmt.Sprint("/", i), 1, 16<<10)
		if i%10 >= 3 && i%10 <= 5 {
			want = ""
		}
		require.Equal(t, short(want), short(r.get(key)), "%s after a restart", key)
	}
	f, _ = r.store.LowerFigures()
	assert.Zero(t, f.Errors)
	assert.EqualValues(t, n*8/10, f.Entries+r.store.Figures().Entries, "those that are softened are kept")
}

// TestWhatIsOnDiskIsFoundWithoutRoom: also if memory has no room for it, or gives it up at once for others.
func TestWhatIsOnDiskIsFoundWithoutRoom(t *testing.T) {
	r := newRig(t, 1<<20, 64<<20)
	const n = 200
	for i := range n {
		r.put(fmt.Sprint("/", i), page(fmt.Sprint("/", i), 1, 16<<10))
	}
	r.descend()
	readAll := func(when string) {
		var all sync.WaitGroup
		for first := range 16 {
			all.Go(func() {
				for i := range n {
					key := fmt.Sprint("/", (i*7+first*13)%n)
					assert.Equal(t, short(page(key, 1, 16<<10)), short(r.get(key)), when)
				}
			})
		}
		all.Wait()
	}
	readAll("at first")
	held := int64(0)
	for r.store.Reserve(8 << 10) { // by fills
		held += 8 << 10
	}
	readAll("without room")
	r.store.Release(held)
	readAll("in the end")
}

// TestPromise2OnDisk compares memory and disk with a plain model, through purges, evictions,
// restarts, and the process's death at any write.
func TestPromise2OnDisk(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		r := newRig(rt, rapid.SampledFrom([]int64{512 << 10, 512 << 10, 8 << 20}).Draw(rt, "memory"), 20<<20) // in which there is room for all
		newest := map[string]string{}                                                                         // what may be served; nothing else may
		carries := map[string][]string{}
		version := 0
		forget := func(covers func(key string) bool) {
			for key := range newest {
				if covers(key) {
					delete(newest, key)
				}
			}
		}
		for range rapid.IntRange(20, 120).Draw(rt, "steps") {
			key := fmt.Sprint("/", rapid.IntRange(0, 60).Draw(rt, "key"))
			tag := fmt.Sprint("t", rapid.IntRange(0, 5).Draw(rt, "tag"))
			switch rapid.IntRange(0, 14).Draw(rt, "what") {
			case 0, 1, 2, 3, 4, 5:
				version++
				text := page(key, version, rapid.SampledFrom([]int{10, 9 << 10, 40 << 10, 90 << 10}).Draw(rt, "length"))
				r.put(key, text, tag)
				newest[key], carries[key] = text, []string{tag}
			case 6, 7, 8:
				get := rapid.SampledFrom([]func(string) string{r.get, r.getNear}).Draw(rt, "get")
				for i := range 60 {
					key := fmt.Sprint("/", i)
					if got := get(key); got != "" {
						require.Equal(rt, short(newest[key]), short(got))
					}
				}
			case 9:
				r.descend()
			case 10:
				r.purge(tags.Purge{Tags: []string{tag}})
				forget(func(key string) bool { return carries[key][0] == tag })
			case 11:
				r.purge(rapid.SampledFrom([]tags.Purge{
					{URLs: []tags.URL{{Path: key, AnyHost: true, AnyQuery: true}}}, {Begins: []string{tag}}, {Below: []tags.Below{{Path: key, AnyHost: true}}}, {Tags: []string{tag, tag}, Together: true},
				}).Draw(rt, "purge"))
				last := r.ledger[len(r.ledger)-1]
				forget(func(key string) bool {
					return last.Covers(&tags.Subject{Host: "x", Path: key, Tags: carries[key], Route: "pages"})
				})
			case 12:
				r.confirm()
				r.marks.Compact(r.store.Compactable(r.marks))
			case 13:
				r.store.Sweep(tags.Purge{Sequence: everLater, Tags: []string{tag}}) // without a place in the ledger
				forget(func(key string) bool { return carries[key][0] == tag })
			case 14:
				if rapid.Bool().Draw(rt, "clean") {
					r.stop()
				} else {
					r.files = r.files.copied()
					if len(r.files.all) > 5 && rapid.Bool().Draw(rt, "flips") {
						flip(r.files, rapid.Uint64().Draw(rt, "where"))
					}
				}
				r.start()
			}
			require.LessOrEqual(rt, r.files.bytes(), r.limit)
		}
	})
}

// flip changes one bit of some segment or of the log.
func flip(m *memoryFiles, where uint64) {
	names, _ := m.List()
	chance := rand.New(rand.NewPCG(where, 1))
	f := m.all[names[chance.IntN(len(names))]]
	if len(f.text) > 0 && f.name != "seed" && f.name != "layout" {
		f.text[chance.IntN(len(f.text))] ^= 1 << chance.IntN(8)
	}
}

// TestFarBodiesAreReadToTheirEnd: also when their segment gives way, which takes room until then. One
// that is not as it was written is not sent.
func TestFarBodiesAreReadToTheirEnd(t *testing.T) {
	r := newRig(t, 2<<20, 16<<20)
	long := func(key string, version int) string { return page(key, version, 200<<10) }
	r.put("/far", long("/far", 1), "t")
	for i := range 10 {
		r.put(fmt.Sprint("/", i), long("/x", i), "t")
		r.descend()
	}
	e := r.store.FindFar([]byte("r\x00/far"), nil).Entry
	require.NotNil(t, e)
	require.NotNil(t, e.Far)
	body, err := e.Far.Open()
	require.NoError(t, err)
	part, err := io.ReadAll(body.Section(2, 10))
	require.NoError(t, err)
	assert.Equal(t, long("/far", 1)[2:12], string(part))
	for i := range 200 { // more than the disk has room for
		r.put(fmt.Sprint("/y", i), long("/y", i), "t")
		r.descend()
		f, _ := r.store.LowerFigures()
		require.LessOrEqual(t, r.files.bytes(), f.Taken)
		require.LessOrEqual(t, f.Taken, f.Limit)
	}
	whole, err := io.ReadAll(body.Section(0, e.Length()))
	require.NoError(t, err)
	assert.Equal(t, short(long("/far", 1)), short(string(whole)))
	require.NoError(t, body.Close())

	lost := ""
	for i := 0; i < 200 && (e == nil || e.Far == nil || lost == ""); i++ {
		lost = fmt.Sprint("/y", i)
		e = r.store.FindFar([]byte("r\x00"+lost), nil).Entry
	}
	require.NotNil(t, e)
	require.NotNil(t, e.Far)
	for name, file := range r.files.all {
		if i := strings.Index(string(file.text), string(e.Header["Etag"][0][1:9])+strings.Repeat("~", 20)); strings.HasPrefix(name, "segment") && i > 0 {
			file.text[i+1000] ^= 1
		}
	}
	_, err = e.Far.Open()
	require.Error(t, err)
	f, _ := r.store.LowerFigures()
	assert.EqualValues(t, 1, f.Errors)
	assert.Nil(t, r.store.FindFar([]byte("r\x00"+lost), nil).Entry, "the origin is asked")
}

// TestKilledAtAnyWrite: whatever the last write was, what comes back is whole, and no purge is
// forgotten.
func TestKilledAtAnyWrite(t *testing.T) {
	for most := 1; most < 90; most++ {
		r := newRig(t, 512<<10, 20<<20)
		r.files.killAfter(most)
		newest, before := map[string]string{}, ""
		for i := 0; i < 240 && !r.files.killed(); i++ {
			key := fmt.Sprint("/", i%90)
			before = newest[key] // which may come back if the process dies before the other is stored
			newest[key] = page(key, i, 8<<10)
			r.put(key, newest[key], fmt.Sprint("t", i%7))
			if i%20 == 19 {
				r.descend()
			}
			if i%50 == 49 {
				r.purge(tags.Purge{Tags: []string{fmt.Sprint("t", i%7)}})
				for j := 0; j <= i; j++ {
					if key := fmt.Sprint("/", j%90); strings.HasPrefix(newest[key], fmt.Sprintf("%s#%d#", key, j)) && j%7 == i%7 {
						delete(newest, key)
					}
				}
				r.confirm()
			}
		}
		r.files = r.files.copied()
		r.tick(time.Second)
		r.start()
		for i := range 90 {
			key := fmt.Sprint("/", i)
			if got := r.get(key); got != "" && got != before {
				require.Equal(t, short(newest[key]), short(got), "killed at write %d", most)
			}
		}
	}
}

// TestAFailingDeviceIsNobodysTrouble: what cannot be read is not there, what cannot be written is not
// kept, and after many errors the tier leaves the device alone.
func TestAFailingDeviceIsNobodysTrouble(t *testing.T) {
	broken := errors.New("the device is gone")
	for _, what := range []string{"read", "write", "create", "remove", "replace", "truncate"} {
		r := newRig(t, 512<<10, 20<<20)
		fill := func() {
			for i := range 100 {
				r.put(fmt.Sprint("/", i), page(fmt.Sprint("/", i), 1, 16<<10))
			}
			r.descend()
		}
		fill()
		r.files.mu.Lock()
		r.files.fails = func(did, _ string) error {
			if did == what {
				return broken
			}
			return nil
		}
		r.files.mu.Unlock()
		for range 30 {
			fill()
			for i := range 100 {
				if got := r.get(fmt.Sprint("/", i)); got != "" {
					require.Equal(t, short(page(fmt.Sprint("/", i), 1, 16<<10)), short(got))
				}
			}
			r.confirm()
		}
		f, _ := r.store.LowerFigures()
		if what != "truncate" && what != "remove" { // nothing is removed here
			assert.Positive(t, f.Errors, what)
			assert.True(t, what == "replace" || f.Off != "", what) // without that one the next start reads more of the ledger
		}
	}
}

// TestNeverOverItsLimit: what is worth least gives way, and what was asked for stays.
func TestNeverOverItsLimit(t *testing.T) {
	r := newRig(t, 512<<10, 16<<20)
	r.put("/hot", page("/hot", 1, 9<<10))
	for i := range 4000 {
		r.put(fmt.Sprint("/", i), page(fmt.Sprint("/", i), 1, 16<<10))
		if i%25 == 0 {
			for range 3 {
				if e := r.store.Find([]byte("r\x00/hot"), nil).Entry; e != nil {
					r.store.Use(e, r.now)
				}
			}
		}
		if i%50 == 49 {
			r.descend()
			require.LessOrEqual(t, r.files.bytes(), r.limit)
		}
		if i == 2000 { // what is written anew later was written by an earlier process
			r.stop()
			r.tick(time.Minute)
			r.start()
		}
	}
	f, _ := r.store.LowerFigures()
	assert.LessOrEqual(t, f.Taken, f.Limit)
	assert.Zero(t, f.Errors)
	assert.Greater(t, f.Bytes, int64(8<<20), "the disk is used")
	assert.Equal(t, page("/hot", 1, 9<<10), r.get("/hot"))
	r.purge(tags.Purge{All: true})
	assert.Less(t, r.files.bytes(), 2*r.tier.target, "nothing is kept of what is purged")
}

// TestFiltersMissNothing, and seldom say that something is there that is not.
func TestFiltersMissNothing(t *testing.T) {
	var terms []posting
	chance := rand.New(rand.NewPCG(1, 1))
	for range 5000 {
		terms = append(terms, posting{term: chance.Uint64()})
	}
	f, wrong := newFilter(terms), 0
	for _, p := range terms {
		require.True(t, f.has(p.term))
	}
	for range 10_000 {
		if f.has(chance.Uint64()) {
			wrong++
		}
	}
	assert.Less(t, wrong, 300)
}

// TestTheBudgetBoundsWhatIsWritten over ten seconds.
func TestTheBudgetBoundsWhatIsWritten(t *testing.T) {
	r := newRig(t, 512<<10, 64<<20)
	r.tier.writing.Lock()
	r.tier.Writes, r.tier.budget = 100<<10, budget{at: r.now}
	r.tier.writing.Unlock()
	for i := range 400 {
		r.put(fmt.Sprint("/", i), page(fmt.Sprint("/", i), 1, 16<<10))
		r.tick(50 * time.Millisecond)
		r.descend()
	}
	f, _ := r.store.LowerFigures()
	assert.Less(t, f.Written, int64(22*100<<10), "twenty seconds' worth")
	assert.Greater(t, f.Written, int64(1<<20))
	assert.Positive(t, f.Refused)
}

// TestVariantsOnDisk: of several entries under a key each request gets its own, in whichever tier
// they are, and what was replaced does not come back.
func TestVariantsOnDisk(t *testing.T) {
	r := newRig(t, 512<<10, 64<<20)
	say := func(lang string) httprules.Fields { return httprules.Header{"Accept-Language": {lang}} }
	put := func(lang, text string) {
		e := r.entry("/v", text)
		if e.Vary = nil; lang != "" {
			e.Vary = []httprules.Varying{{Name: "Accept-Language", Value: lang, Present: true}}
		}
		require.NoError(t, r.store.Put(e, r.now))
	}
	flood := func() {
		for i := range 100 {
			r.put(fmt.Sprint("/", i), page("f", i, 16<<10))
		}
		r.descend()
	}
	body := func(lang string) string {
		if e := r.store.Find([]byte("r\x00/v"), say(lang)).Entry; e != nil {
			return string(e.Body)
		}
		return ""
	}
	put("de", "eins")
	put("fr", "un")
	flood()
	assert.Equal(t, "eins", body("de"))
	flood()
	put("de", "zwei")
	assert.Equal(t, "un", body("fr"), "the other one is on disk")
	flood()
	assert.Equal(t, "zwei", body("de"))
	assert.Equal(t, "", body("en"))
}

func TestAnotherLayoutIsRefused(t *testing.T) {
	r := newRig(t, 1<<20, 64<<20)
	require.NoError(t, r.files.Replace("layout", []byte("77\n")))
	_, _, err := Open(r.files, r.tier.Options)
	assert.ErrorIs(t, err, ErrOtherLayout)
	assert.True(t, bytes.Contains(r.files.all["layout"].text, []byte("77")), "nothing is touched")
}
