package store

import (
	"fmt"
	"runtime"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"gerastic/internal/core/httprules"
	"gerastic/internal/core/tags"
)

var noon = time.Date(2026, 5, 17, 12, 0, 0, 0, time.UTC)

func entry(key string, size int, entryTags ...string) *Entry {
	e := &Entry{
		Key: key, Scheme: "http", Status: 200, Header: httprules.Header{"Content-Type": {"text/plain"}}, Body: make([]byte, size),
		Subject:   tags.Subject{Tags: entryTags, Route: "r", Host: "h", Path: "/" + key},
		Freshness: httprules.Freshness{Born: noon, Lifetime: time.Minute}, Browser: httprules.Unset, Idle: httprules.Unset,
	}
	e.Prepare()
	return e
}

func find(m *Memory, key string, request httprules.Header) *Entry {
	return m.Find([]byte(key), request).Entry
}

func TestVariantsOfAKey(t *testing.T) {
	m := NewMemory(1<<20, noon)
	variant := func(device, body string) *Entry {
		e := entry("k", 0)
		e.Body = []byte(body)
		e.Vary = []httprules.Varying{{Name: "X-Device", Value: device, Present: true}}
		return e
	}
	phone := httprules.Header{"X-Device": {"phone"}}
	require.NoError(t, m.Put(variant("phone", "small"), noon))
	require.NoError(t, m.Put(variant("desk", "large"), noon))
	assert.Equal(t, "small", string(find(m, "k", phone).Body))
	assert.Nil(t, find(m, "k", httprules.Header{}))
	_ = m.Put(variant("phone", "smaller"), noon)
	assert.Equal(t, "smaller", string(find(m, "k", phone).Body), "a newer answer takes the older one's place")
	assert.EqualValues(t, 2, m.Figures().Entries)
	for i := range MaxVariants + 10 {
		_ = m.Put(variant(fmt.Sprint(i), ""), noon)
	}
	assert.Len(t, m.Variants([]byte("k")), MaxVariants)
	assert.Positive(t, m.Figures().Removed["crowded"])
}

// TestPromise2NothingTakesThePlaceOfWhatBeganLater: in whatever order fills end, what a variant
// holds at last is from the one that began last; a failure stands beside, and leaves when its
// origin is well again.
func TestPromise2NothingTakesThePlaceOfWhatBeganLater(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		m := NewMemory(1<<20, noon)
		devices := []string{"phone", "desk"}
		last := map[string]Fill{} // by device, and of failures
		for range rapid.IntRange(1, 20).Draw(t, "fills") {
			device := rapid.SampledFrom(devices).Draw(t, "device")
			e := entry("k", 1)
			e.Vary = []httprules.Varying{{Name: "X-Device", Value: device, Present: true}}
			e.Fill = Fill{Stamp: tags.Stamp(rapid.IntRange(0, 3).Draw(t, "stamp")), Began: noon.Add(time.Duration(rapid.IntRange(0, 9).Draw(t, "began")))}
			e.Failure = rapid.IntRange(0, 3).Draw(t, "failure") == 0
			overtaken := e.Fill.Before(last[device]) || e.Failure && e.Fill.Before(last["failed "+device])
			err := m.Put(e, noon)
			require.Equal(t, overtaken, err != nil, "%v after %v", e.Fill, last)
			switch {
			case err != nil:
			case e.Failure:
				last["failed "+device] = e.Fill
			default:
				last[device] = e.Fill
				delete(last, "failed "+device)
			}
			for _, device := range devices {
				f := m.Find([]byte("k"), httprules.Header{"X-Device": {device}})
				good, some := last[device]
				failed, broken := last["failed "+device]
				require.Equal(t, some || broken, f.Entry != nil)
				switch {
				case some:
					require.Equal(t, good, f.Entry.Fill)
					require.Equal(t, broken, f.Failure != nil)
				case broken:
					require.Equal(t, failed, f.Entry.Fill)
				}
			}
		}
		entries, _ := m.Audit()
		assert.EqualValues(t, len(last), entries)
		assert.EqualValues(t, len(last), m.Figures().Entries)
	})
}

// TestWhatIsUsedStays: one that is used stays while many come that nobody asks for again, and what
// cannot fit takes nothing with it.
func TestWhatIsUsedStays(t *testing.T) {
	m := NewMemory(2<<20, noon)
	require.NoError(t, m.Put(entry("used", 1000), noon))
	for i := range 5000 {
		if e := find(m, "used", nil); i%10 == 0 && assert.NotNil(t, e, "%d", i) {
			for range useBatch * useStripes { // not all of them are counted
				m.Use(e, noon)
			}
		}
		require.NoError(t, m.Put(entry(fmt.Sprint("once ", i), 1000), noon))
	}
	said := 0
	for i := range 5000 {
		if why, known := m.Missing(fmt.Append(nil, "once ", i)); known && assert.Equal(t, Evicted, why) {
			said++
		}
	}
	assert.Greater(t, said, 500, "why it left is known of many")
	before := m.Figures().Entries
	assert.ErrorIs(t, m.Put(entry("huge", 3<<20), noon), ErrNoRoom, "what cannot fit is refused")
	assert.Equal(t, before, m.Figures().Entries)
}

// TestAFormThatGoesIsNoEntry: what is counted as removed are entries.
func TestAFormThatGoesIsNoEntry(t *testing.T) {
	m := NewMemory(1<<20, noon)
	e := entry("k", 100)
	require.NoError(t, m.Put(e, noon))
	require.True(t, m.AddEncoded(e, httprules.Gzip, []byte("coded"), time.Millisecond))
	m.mu.Lock()
	m.remove(m.formOf(e.kept.Load(), uint8(indexOf(httprules.Gzip))), Evicted)
	m.mu.Unlock()
	assert.Zero(t, m.Figures().Removed["evicted"])
	assert.Equal(t, httprules.Identity, find(m, "k", nil).Encoded(httprules.Gzip).Coding)
	check(t, m, 1<<20)
}

func TestIdleEntriesLeave(t *testing.T) {
	m := NewMemory(1<<20, noon)
	e := entry("k", 1)
	e.Idle = time.Minute
	_ = m.Put(e, noon)
	_ = m.Put(entry("other", 1), noon)
	asked := entry("asked", 1)
	asked.Idle = time.Minute
	_ = m.Put(asked, noon)
	assert.Zero(t, m.SweepIdle(noon.Add(time.Minute)))
	asked.Touch(noon.Add(time.Minute))
	assert.Equal(t, 1, m.SweepIdle(noon.Add(70*time.Second)))
	assert.Nil(t, find(m, "k", nil))
	assert.NotNil(t, find(m, "other", nil))
	assert.Zero(t, m.SweepIdle(noon.Add(2*time.Minute)))
	assert.Equal(t, 1, m.SweepIdle(noon.Add(130*time.Second)), "a minute after it was asked for")
	for i := range 5000 { // what is replaced again and again has one turn
		e := entry("again", 1)
		e.Idle, e.Fill.Began = time.Hour, noon.Add(time.Duration(i))
		_ = m.Put(e, noon)
	}
	assert.Less(t, m.idle.items, 1100)
	assert.Len(t, m.idle.turns, 1)
}

// TestWhatIsStrandedIsFreed: of the routes and keys that nobody asks with any more.
func TestWhatIsStrandedIsFreed(t *testing.T) {
	m := NewMemory(1<<20, noon)
	for _, key := range []string{"old a", "old b", "new a"} {
		require.NoError(t, m.Put(entry(key, 1), noon))
	}
	assert.Equal(t, 2, m.FreeStranded(func(route, key string) bool { return route == "r" && strings.HasPrefix(key, "new") }))
	assert.NotNil(t, find(m, "new a", nil))
	check(t, m, 1<<20)
}

// TestPromise6TheLimitHolds puts, finds, purges and removes at random, and compares the
// store with a simple model: never over the limit, and its indexes always agree.
func TestPromise6TheLimitHolds(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		const limit = 400_000
		m := NewMemory(limit, noon)
		name := rapid.SampledFrom([]string{"a", "b", "c", "d", "e", "f", "g", "h", "i", "j"})
		now, sequence := noon, tags.Stamp(0)
		for range rapid.IntRange(1, 60).Draw(t, "steps") {
			now = now.Add(time.Second)
			switch rapid.IntRange(0, 9).Draw(t, "step") {
			default:
				e := entry(name.Draw(t, "key"), rapid.IntRange(0, 90_000).Draw(t, "size"), rapid.SliceOfNDistinct(name, 0, 3, rapid.ID[string]).Draw(t, "tags")...)
				e.Subject.Stamp, e.Fill.Stamp = sequence, sequence
				if m.Put(e, now) == nil {
					assert.True(t, e.Is(find(m, e.Key, nil)))
				}
			case 6:
				if e := find(m, name.Draw(t, "key"), nil); e != nil {
					m.Use(e, now)
					m.AddEncoded(e, httprules.Gzip, make([]byte, 1+len(e.Body)/2), time.Millisecond)
				}
			case 7:
				sequence++
				tag := name.Draw(t, "purged tag")
				m.Sweep(tags.Purge{Sequence: sequence, Tags: []string{tag}})
				assert.Zero(t, m.Preview(tags.Purge{Tags: []string{tag}}).Entries)
			case 8:
				if e := find(m, name.Draw(t, "key"), nil); e != nil {
					m.Remove(e, Replaced)
				}
			case 9:
				if size := int64(rapid.IntRange(0, 150_000).Draw(t, "reserved")); m.Reserve(size) {
					assert.LessOrEqual(t, m.Figures().Used, int64(limit))
					m.Release(size)
				}
			}
			check(t, m, limit)
		}
	})
}

func check(t assert.TestingT, m *Memory, limit int64) {
	var size, entries, places int64
	tagged := map[string]int{}
	for i := range m.shards {
		m.inShard(&m.shards[i], func(r *record) {
			e := m.decode(r)
			assert.True(t, r.is(resident) && e.Key == strings.TrimPrefix(e.Subject.Path, "/"))
			size, entries, places = size+r.size(), entries+1, places+1
			m.eachForm(r, func(form *record) { size, places = size+form.size(), places+1 })
			seen := map[string]bool{}
			for _, tag := range e.Subject.Tags {
				if !seen[tag] {
					tagged[tag]++
				}
				seen[tag] = true
			}
			assert.NotEmpty(t, m.Some("", "", e.Subject.Path, 1))
		})
	}
	f := m.Figures()
	assert.Equal(t, size+f.Structure+f.Ready, f.Used)
	assert.Equal(t, entries, f.Entries)
	assert.LessOrEqual(t, f.Used, limit)
	assert.EqualValues(t, places, int(m.places.high)-len(m.places.free))
	words := map[string]bool{}
	m.words.each(func(one *word) {
		assert.False(t, words[one.text])
		words[one.text] = true
		assert.Equal(t, tagged[one.text], one.posted.len()*ordinal(one.text[0] != 0))
	})
	assert.Equal(t, entries == 0, len(words) == 0, "words stay behind")
}

// TestPromise6AccountedBytesCoverTheHeap: what the store says that it uses is at least
// what the heap grew by, for small entries (where overhead is most) and large ones.
func TestPromise6AccountedBytesCoverTheHeap(t *testing.T) {
	for _, c := range []struct{ entries, body int }{{50_000, 100}, {2_000, 20_000}} {
		heap := func() int64 {
			runtime.GC()
			runtime.GC()
			var s runtime.MemStats
			runtime.ReadMemStats(&s)
			return int64(s.HeapAlloc)
		}
		m := NewMemory(1<<30, noon)
		before := heap()
		for i := range c.entries {
			e := entry(fmt.Sprintf("key number %d", i), c.body, fmt.Sprintf("tag:%d", i), "common", fmt.Sprintf("group:%d", i%100))
			e.Header = httprules.Header{"Content-Type": {fmt.Sprint("text/", i)}, "Etag": {fmt.Sprint(i)}, "Date": {fmt.Sprint("day ", i)}}
			e.Prepare()
			_ = m.Put(e, noon)
		}
		grown, says := heap()-before, m.Figures().Used
		t.Logf("%d entries of %d bytes: %d bytes each beside the body", c.entries, c.body, grown/int64(c.entries)-int64(c.body))
		assert.InEpsilon(t, grown, says, 0.05, "%d entries of %d bytes", c.entries, c.body)
		runtime.KeepAlive(m)
	}
}

func TestSweepCountsEachEntryOnce(t *testing.T) {
	m := NewMemory(64<<20, noon)
	for i := range 5000 {
		_ = m.Put(entry(fmt.Sprint(i), 10, "all", fmt.Sprintf("group:%d", i%7)), noon)
	}
	var all sync.WaitGroup
	var counted [8]int64
	for i := range 8 { // purges that overlap, at once, while visitors read
		p := tags.Purge{Sequence: tags.Stamp(i + 1), Tags: []string{fmt.Sprintf("group:%d", i)}}
		if i == 7 {
			p.Tags = []string{"all"}
		}
		all.Go(func() { counted[i] = m.Sweep(p).Entries })
		all.Go(func() {
			for k := range 5000 {
				find(m, fmt.Sprint(k), nil)
			}
		})
	}
	all.Wait()
	var sum int64
	for _, n := range counted {
		sum += n
	}
	assert.EqualValues(t, 5000, sum)
	assert.Zero(t, m.Figures().Entries)
	assert.Equal(t, m.Figures().Structure, m.Figures().Used)
	assert.Empty(t, m.index.routes)
}

func TestWhatWasFilledAfterAPurgeStays(t *testing.T) {
	m := NewMemory(1<<20, noon)
	old, fresh := entry("old", 1, "t"), entry("fresh", 1, "t")
	fresh.Subject.Stamp, fresh.Fill.Stamp = 1, 1
	_ = m.Put(old, noon)
	_ = m.Put(fresh, noon)
	assert.EqualValues(t, 1, m.Sweep(tags.Purge{Sequence: 1, Tags: []string{"t"}}).Entries)
	assert.Equal(t, []TagCount{{"t", 1, fresh.Size(), map[string]int{"r": 1}}}, m.Tags("", 10), "it is still found by its tag")
	assert.EqualValues(t, 1, m.Sweep(tags.Purge{Sequence: 2, Tags: []string{"t"}}).Entries)
}

// TestPromise2MarksThatNobodyNeedsAreForgotten: what lives is not taken for purged when
// the marks that it was judged by are gone, and what is softened stays softened.
func TestPromise2MarksThatNobodyNeedsAreForgotten(t *testing.T) {
	m, marks := NewMemory(1<<20, noon), tags.NewMarks(0, 100)
	alive, soft, dropped := entry("alive", 1, "a"), entry("soft", 1, "s"), entry("dropped", 1, "d")
	for _, e := range []*Entry{alive, soft, dropped} {
		_ = m.Put(e, noon)
	}
	marks.Apply(tags.Purge{Sequence: 1, Tags: []string{"d"}})
	softening := tags.Purge{Sequence: 2, Mode: tags.Soften, Tags: []string{"s"}}
	marks.Apply(softening)
	assert.EqualValues(t, 0, m.Compactable(marks), "until the sweep has noted it, the mark is all that softens")
	m.Sweep(softening)
	assert.EqualValues(t, 2, m.Compactable(marks))
	marks.Compact(2)
	assert.Zero(t, marks.Len())
	marks.Apply(tags.Purge{Sequence: 3, Tags: []string{"other"}})
	assert.Equal(t, tags.Alive, alive.Judge(marks))
	assert.Equal(t, tags.Softened, soft.Judge(marks))
	_ = m.Put(entry("soft", 1, "s"), noon)
	assert.Equal(t, tags.Softened, soft.Judge(marks), "also for whoever found it just before another took its place")
	assert.Equal(t, tags.Dropped, dropped.Judge(marks))
	marks.Apply(tags.Purge{Sequence: 4, Tags: []string{"a"}})
	assert.Equal(t, tags.Dropped, alive.Judge(marks))
}

// TestSweepFindsWhatTheMarksDefeat: previews and counts agree with what a purge names,
// however it names it.
func TestSweepFindsWhatTheMarksDefeat(t *testing.T) {
	for _, p := range []tags.Purge{
		{Tags: []string{"even"}}, {Tags: []string{"even", "third"}}, {Tags: []string{"even", "third"}, Together: true}, {Tags: []string{"even"}, Host: "h2"},
		{Routes: []string{"r"}}, {Hosts: []string{"h1"}}, {Begins: []string{"t"}}, {Below: []tags.Below{{AnyHost: true, Path: "/1"}}}, {Below: []tags.Below{{Host: "h0", Path: "/2"}}, Tags: []string{"third"}},
		{URLs: []tags.URL{{AnyHost: true, Path: "/7", AnyQuery: true}}}, {All: true},
	} {
		m, marks := NewMemory(1<<20, noon), tags.NewMarks(0, 100)
		var all []*Entry
		for i := range 50 {
			e := entry(fmt.Sprint(i), 1, map[bool]string{true: "even", false: "odd"}[i%2 == 0], map[bool]string{true: "third", false: "other"}[i%3 == 0])
			e.Subject.Host, e.Subject.Path, e.Subject.Route = fmt.Sprintf("h%d", i%4), fmt.Sprintf("/%d", i), "r"
			_ = m.Put(e, noon)
			all = append(all, e)
		}
		p.Sequence = 1
		marks.Apply(p)
		var dropped int64
		for _, e := range all {
			if marks.Judge(&e.Subject) == tags.Dropped {
				dropped++
			}
		}
		require.NotZero(t, dropped, "%+v", p)
		assert.Equal(t, dropped, m.Preview(p).Entries, "%+v", p)
		assert.Equal(t, dropped, m.Sweep(p).Entries, "%+v", p)
		assert.Zero(t, m.Sweep(p).Entries)
		assert.EqualValues(t, 50-dropped, m.Figures().Entries)
	}
}

func TestTagsListTheLargestFirst(t *testing.T) {
	m := NewMemory(1<<20, noon)
	for i := range 6 {
		_ = m.Put(entry(fmt.Sprint(i), 1, "port:a", fmt.Sprintf("port:%d", i%2), "other"), noon)
	}
	var names []string
	for _, c := range m.Tags("port:", 2) {
		names = append(names, fmt.Sprint(c.Tag, " ", c.Entries))
	}
	assert.Equal(t, []string{"port:a 6", "port:0 3"}, names)
}
