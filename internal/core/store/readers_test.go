package store

import (
	"bytes"
	"context"
	"fmt"
	"math/rand/v2"
	"runtime"
	"strconv"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gerastic/internal/core/httprules"
	"gerastic/internal/core/tags"
)

// told is an entry all of whose parts say which it is.
func told(key string, version, size int) *Entry {
	e := entry(key, 0, "tag of "+key, "all")
	e.Body = bytes.Repeat(fmt.Appendf(nil, "%s/%d;", key, version), 1+size/16)
	e.Header = httprules.Header{"Etag": {fmt.Sprintf("%s/%d", key, version)}, "X-Key": {key}, "Content-Type": {"text/plain; charset=utf-8"}}
	e.Fill.Began = noon.Add(time.Duration(version))
	e.Compress = true
	return e
}

// holds reports what is wrong with an entry that was found under a key.
func holds(e *Entry, key string) string {
	etag := e.Header.Get("Etag")
	line := []byte(etag + ";")
	switch {
	case e.Key != key || e.Header.Get("X-Key") != key || e.Subject.Path != "/"+key || e.Subject.Tags[0] != "tag of "+key:
		return "it is another entry's"
	case len(e.Body)%len(line) != 0 || !bytes.Equal(e.Body, bytes.Repeat(line, len(e.Body)/len(line))):
		return "its body is another one's"
	}
	for _, coding := range httprules.Codings {
		if form := e.Encoded(coding); form.Coding == coding && string(form.Body) != "coded "+etag {
			return "its coded form is another one's"
		}
	}
	return ""
}

// TestPromise1NothingOfAnotherEntry: while entries of all sizes come, are replaced, evicted and
// purged, whoever found one reads nothing but what it was, however long they hold it; and a purge
// that has ended leaves nothing of what it took.
func TestPromise1NothingOfAnotherEntry(t *testing.T) {
	m := NewMemory(3<<20, noon)
	ctx, cancel := context.WithCancel(context.Background())
	var readers, writers sync.WaitGroup
	readers.Go(func() { m.Tell(ctx) })
	name := func(r *rand.Rand) string { return "key " + strconv.Itoa(r.IntN(300)) }
	for who := range uint64(2) {
		writers.Go(func() {
			r := rand.New(rand.NewPCG(who, 1))
			for i := range 3000 {
				key, version := name(r), 2*i+int(who)
				e := told(key, version, []int{10, 300, 5000, 40_000, 90_000}[r.IntN(5)])
				if m.Put(e, noon) == nil && r.IntN(3) == 0 {
					m.AddEncoded(e, httprules.Codings[r.IntN(3)], []byte("coded "+e.Header.Get("Etag")), time.Millisecond)
				}
				if i%100 == 0 {
					m.Sweep(tags.Purge{Sequence: 1, Tags: []string{"tag of " + key}})
					m.SweepIdle(noon.Add(time.Hour))
				}
				if i%1000 == 999 {
					m.Sweep(tags.Purge{Sequence: 1, Tags: []string{"all"}})
				}
			}
		})
		readers.Go(func() {
			r := rand.New(rand.NewPCG(who, 2))
			var held []*Entry
			for ctx.Err() == nil {
				key := name(r)
				if e := m.Find([]byte(key), nil).Entry; e != nil {
					assert.Empty(t, holds(e, key))
					m.Use(e, noon)
					held = append(held, e)
				}
				for _, e := range m.Some("tag of "+key, "", "", 3) {
					assert.Empty(t, holds(e, key))
				}
				if len(held) > 200 {
					held = held[100:]
				}
				if len(held) > 0 {
					e := held[r.IntN(len(held))]
					assert.Empty(t, holds(e, e.Key), "long after it was found")
				}
				if r.IntN(2000) == 0 {
					runtime.GC()
				}
			}
		})
	}
	writers.Wait()
	cancel()
	readers.Wait()
	assert.NotZero(t, m.Figures().Removed["evicted"])
	check(t, m, 3<<20)
	m.Sweep(tags.Purge{Sequence: 1, Tags: []string{"all"}})
	assert.Zero(t, m.Figures().Entries)
	assert.Zero(t, m.Figures().Kept)
}

// TestWhatIsWrittenIsRead: an entry is after it was put what it was before, whatever is in it.
func TestWhatIsWrittenIsRead(t *testing.T) {
	e := told("a key", 7, 5000)
	e.Method, e.Terms, e.Search, e.Status, e.Implied, e.RouteTags = "QUERY", "terms of a route", "key-order", 404, 1, 1
	e.Vary = []httprules.Varying{{Name: "X-Device", Value: "phone", Present: true}, {Name: "Accept-Language"}}
	e.Encodings, e.Parts, e.PageInfo, e.OriginVary = []string{"gzip"}, []string{"ns/part", ""}, []string{"line"}, []string{"X-Device"}
	e.Header["Date"], e.Header["Last-Modified"], e.Header["Set-Cookie"], e.Header["Empty"] = []string{httprules.FormatDate(noon)}, []string{"Sun, 6 Nov 1994 08:49:37 GMT"}, []string{"a=1", "b=2"}, []string{""}
	e.Work = "queries=7,rows=120"
	e.Received, e.Browser, e.Idle, e.LifeLimit = noon.Add(-time.Hour), time.Minute, 1500*time.Millisecond, time.Hour
	e.Freshness = httprules.Freshness{Born: noon.Add(-2 * time.Hour), Lifetime: 3 * time.Second, Source: 2, MustAsk: true, Immutable: true, StaleIfError: time.Second, StaleWhileRevalidate: httprules.Unset}
	e.Subject.Query, e.Subject.Reaching, e.Subject.Stamp, e.Fill.Stamp = "q=1", true, 9, 9
	e.OriginOnly, e.Personal, e.ForAuthorized = true, true, true
	e.Filled(nil, 1234*time.Microsecond)
	m := NewMemory(1<<20, noon)
	for range 4 { // texts become words when they come again
		again := e.Restated()
		again.KeepCost(e)
		assert.NoError(t, m.Put(again, noon))
		read := m.Some("all", "", "", 1)[0]
		for _, both := range [][2]any{
			{e.Key, read.Key}, {e.Method, read.Method}, {e.Scheme, read.Scheme}, {e.Subject, read.Subject}, {e.RouteTags, read.RouteTags}, {e.Vary, read.Vary}, {e.Fill, read.Fill},
			{e.Failure, read.Failure}, {e.Terms, read.Terms}, {e.Status, read.Status}, {e.Header, read.Header}, {e.Body, read.Body}, {e.Freshness, read.Freshness}, {e.Received, read.Received},
			{e.Browser, read.Browser}, {e.Idle, read.Idle}, {e.LifeLimit, read.LifeLimit}, {e.OriginOnly, read.OriginOnly}, {e.ForAuthorized, read.ForAuthorized}, {e.Personal, read.Personal},
			{e.Encodings, read.Encodings}, {e.Implied, read.Implied}, {e.Parts, read.Parts}, {e.PageInfo, read.PageInfo}, {e.Work, read.Work}, {e.Search, read.Search}, {e.Compress, read.Compress}, {e.OriginVary, read.OriginVary}, {e.Cost(), read.Cost()},
		} {
			assert.Equal(t, both[0], both[1])
		}
	}
}

// TestWhatIsAskedForInTurnsStaysReady: while there is room, nobody's coming sends another away.
func TestWhatIsAskedForInTurnsStaysReady(t *testing.T) {
	m := NewMemory(256<<20, noon)
	const entries = 100
	all := make([]*Entry, entries)
	for i := range all {
		require.NoError(t, m.Put(entry(fmt.Sprint(i), 2000), noon))
	}
	for i := range all {
		all[i] = find(m, fmt.Sprint(i), nil)
	}
	made := 0
	for i := range all {
		if find(m, fmt.Sprint(i), nil) != all[i] {
			made++
		}
	}
	assert.Less(t, made, entries/10, "made anew")
}
