package fragment

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"gerastic/internal/core/barrier"
	"gerastic/internal/core/fill"
	"gerastic/internal/core/meter"
	"gerastic/internal/core/store"
	"gerastic/internal/core/tags"
)

// shelf is a store of fragments with a clock of its own.
type shelf struct {
	*Fragments
	now time.Time
	off bool
}

func newShelf(memory int64) *shelf {
	s := &shelf{now: time.Date(2026, 5, 17, 12, 0, 0, 0, time.UTC)}
	stored := store.NewMemory(memory, time.Now())
	b := barrier.New(tags.NewMarks(0, 1000), stored)
	s.Fragments = &Fragments{Store: stored, Barrier: b, Meter: &meter.Meter{}, Leases: fill.NewLeases(100, b.Stamp),
		Now: func() time.Time { return s.now }, On: func(string) bool { return !s.off }}
	b.Guard(s.Leases)
	return s
}

func (s *shelf) purge(sequence tags.Stamp, mode tags.Mode, named ...string) {
	p := tags.Purge{Sequence: sequence, Mode: mode, Tags: named}
	s.Barrier.Apply(p)
	s.Store.Sweep(p)
}

var card = ID{"site", `card(3)`}

const lease = 30 * time.Second

func (s *shelf) look(ask Ask) Answer {
	ask.Lease = lease
	return s.Look(card, ask, s.now)
}

func (s *shelf) put(l *fill.Lease, body string, named ...string) error {
	return s.Put(card, Fill{Lease: l.ID, Body: []byte(body), Lifetime: time.Minute, Stale: time.Minute, Tags: named})
}

func TestLifeOfAFragment(t *testing.T) {
	s := newShelf(1 << 20)
	assert.Equal(t, Missing, s.Look(card, Ask{}, s.now).State, "only looking gives no lease")
	a := s.look(Ask{})
	require.Equal(t, Yours, a.State)
	assert.Equal(t, meter.Cold, a.Cause)
	assert.Equal(t, Filling, s.look(Ask{}).State)
	s.now = s.now.Add(2 * time.Second)
	require.NoError(t, s.put(a.Lease, "Petrel Dawn", "vessel:3"))
	a = s.look(Ask{})
	assert.Equal(t, Fresh, a.State)
	assert.Equal(t, "Petrel Dawn", string(a.Entry.Body))
	assert.Equal(t, 2*time.Second, a.Entry.Cost(), "as long as the lease was out")
	assert.Equal(t, Yours, s.look(Ask{Renew: true}).State, "who wants to fill it anew may")
	s.Leases.Disown()

	s.now = s.now.Add(61 * time.Second)
	a = s.look(Ask{})
	assert.Equal(t, Stale, a.State)
	require.NotNil(t, a.Lease, "the first to find it stale fills it")
	b := s.look(Ask{})
	assert.Equal(t, Stale, b.State)
	assert.Nil(t, b.Lease, "the others use it meanwhile")
	assert.Equal(t, Filling, s.look(Ask{FreshOnly: true}).State, "what goes into a fragment must be fresh")
	require.NoError(t, s.GiveBack(card, a.Lease.ID))
	assert.Equal(t, Yours, s.look(Ask{FreshOnly: true}).State)
	s.Leases.Disown()
	s.now = s.now.Add(time.Minute)
	a = s.look(Ask{})
	assert.Equal(t, Yours, a.State, "too stale")
	assert.Equal(t, meter.Expired, a.Cause)
	require.NoError(t, s.put(a.Lease, "Petrel Dawn"))
	s.Barrier.KnowUntil(s.now.Add(-time.Second))
	assert.Equal(t, Missing, s.Look(card, Ask{}, s.now).State, "what was purged meanwhile nobody knows")
	s.Barrier.KnowAlways()
	s.off = true
	assert.Equal(t, Answer{Cause: meter.Off}, s.look(Ask{}))
}

// TestPromise2Leases: what a lease brings is refused when a purge of its tags, or a newer
// fill, came after the lease was given.
func TestPromise2Leases(t *testing.T) {
	for name, row := range map[string]struct {
		between func(s *shelf)
		taken   bool
	}{
		"nothing between":             {func(*shelf) {}, true},
		"a purge of something else":   {func(s *shelf) { s.purge(1, tags.Drop, "vessel:4") }, true},
		"a purge of its tag":          {func(s *shelf) { s.purge(1, tags.Drop, "vessel:3") }, false},
		"a softening of its tag":      {func(s *shelf) { s.purge(1, tags.Soften, "vessel:3") }, false},
		"a purge of its name":         {func(s *shelf) { s.Barrier.Apply(tags.Purge{Sequence: 1, Routes: []string{"site/card"}}) }, false},
		"a purge of itself":           {func(s *shelf) { p := Purge(card); p.Sequence = 1; s.Barrier.Apply(p) }, false},
		"a purge of another fragment": {func(s *shelf) { p := Purge(ID{"site", "card(33)"}); p.Sequence = 1; s.Barrier.Apply(p) }, true},
		"a purge of everything":       {func(s *shelf) { s.Barrier.Apply(tags.Purge{Sequence: 1, All: true}) }, false},
		"an origin's word for the tag": {func(s *shelf) {
			s.Barrier.Apply(tags.Purge{Sequence: 1, Host: "www.ostrel.example", Tags: []string{"vessel:3"}})
		}, false},
		"pages of a host": {func(s *shelf) { s.Barrier.Apply(tags.Purge{Sequence: 1, Hosts: []string{"www.ostrel.example"}}) }, true},
		"pages below a path": {func(s *shelf) {
			s.Barrier.Apply(tags.Purge{Sequence: 1, Below: []tags.Below{{AnyHost: true, Path: "/"}}})
		}, true},
		"a newer fill": {func(s *shelf) {
			s.now = s.now.Add(lease + time.Second)
			newer := s.look(Ask{})
			require.NoError(t, s.put(newer.Lease, "newer", "vessel:3"))
		}, false},
		"marks that were forgotten": {func(s *shelf) { s.purge(1, tags.Drop, "vessel:4"); s.Barrier.Marks.Compact(1) }, false},
	} {
		s := newShelf(1 << 20)
		a := s.look(Ask{})
		row.between(s)
		err := s.put(a.Lease, "old", "vessel:3")
		if row.taken {
			assert.NoError(t, err, name)
			assert.Equal(t, "old", string(s.look(Ask{}).Entry.Body), name)
			continue
		}
		require.Error(t, err, name)
		assert.Equal(t, Overtaken, Refused(err).Kind, name)
		if e := s.look(Ask{}).Entry; e != nil {
			assert.Equal(t, "newer", string(e.Body), name)
		}
		assert.Error(t, s.put(a.Lease, "old", "vessel:3"), "%s: a lease is good once", name)
	}
}

// TestNeverOlderThanAPurge: in any order of asking, filling, purging and waiting, what is
// found was made after the last purge of its tag that came before the asking.
func TestNeverOlderThanAPurge(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		s := newShelf(1 << 20)
		var truth, sequence int
		type render struct {
			lease *fill.Lease
			saw   int
		}
		var renders []render
		for range rapid.IntRange(1, 40).Draw(t, "steps") {
			switch rapid.IntRange(0, 4).Draw(t, "step") {
			case 0:
				if a := s.look(Ask{FreshOnly: rapid.Bool().Draw(t, "fresh")}); a.Lease != nil && a.State != Filling {
					renders = append(renders, render{a.Lease, truth})
				} else if a.State == Fresh {
					assert.Equal(t, fmt.Sprint(truth), string(a.Entry.Body))
				}
			case 1:
				if len(renders) > 0 {
					i := rapid.IntRange(0, len(renders)-1).Draw(t, "which")
					_ = s.put(renders[i].lease, fmt.Sprint(renders[i].saw), "thing")
					renders = append(renders[:i], renders[i+1:]...)
				}
			case 2:
				truth++
				sequence++
				s.purge(tags.Stamp(sequence), tags.Mode(rapid.IntRange(0, 1).Draw(t, "mode")), "thing")
			case 3:
				s.now = s.now.Add(time.Duration(rapid.IntRange(1, 70).Draw(t, "seconds")) * time.Second)
			case 4:
				sequence++
				s.purge(tags.Stamp(sequence), tags.Drop, "something else")
			}
		}
	})
}

func TestRefusals(t *testing.T) {
	s := newShelf(64 << 10)
	many := make([]string, 1001)
	for i := range many {
		many[i] = fmt.Sprint("tag", i)
	}
	for says, in := range map[string]Fill{
		"lease that it was made under": {Lifetime: 1},
		"lifetime":                     {Lease: "x"},
		"gzip":                         {Lease: "x", Lifetime: 1, Coding: "gzip", Body: []byte("plain")},
		"at most 1000":                 {Lease: "x", Lifetime: 1, Tags: many},
		"is not valid":                 {Lease: "x", Lifetime: 1, Tags: []string{""}},
		"media type":                   {Lease: "x", Lifetime: 1, Type: "text/html\r\nX: y"},
	} {
		err := s.Put(card, in)
		assert.ErrorContains(t, err, says)
		assert.Equal(t, Invalid, Refused(err).Kind, says)
	}
	a := s.look(Ask{})
	err := s.put(a.Lease, strings.Repeat("x", 100<<10))
	assert.Equal(t, TooLarge, Refused(err).Kind)
	for _, bad := range []ID{{"site", ""}, {"si/te", "x"}, {"edge", "x"}, {"site", "(1)"}, {"site", "a b"}, {"site", "a\n"}, {"site", "a\xff"}, {"site", strings.Repeat("x", 65)}, {"site", "a(" + strings.Repeat("x", 1100)}} {
		_, err := NewID(bad.Namespace, bad.Key)
		assert.Error(t, err, "%q", bad)
	}
	id, err := NewID("site", `row("a/b",1)`)
	assert.NoError(t, err)
	assert.Equal(t, "site/row", id.Route())
}

// TestNamesAreBounded: an identifier in the name does not make figures without end.
func TestNamesAreBounded(t *testing.T) {
	s := newShelf(1 << 20)
	for i := range MaxNames + 500 {
		sample := s.Sample(ID{"site", fmt.Sprintf("row-%d", i)}, Answer{}, false, 0, s.now)
		s.Meter.Record(0, &sample)
	}
	cells := s.Meter.Drain()
	assert.Len(t, cells, MaxNames+1)
	assert.EqualValues(t, 500, cells[meter.Key{Route: "site/" + Others, Outcome: meter.Miss, Status: 404}].Requests)
}

// TestFiguresOfFragments: each asking has one outcome, and each fill its cost.
func TestFiguresOfFragments(t *testing.T) {
	s := newShelf(1 << 20)
	count := func(a Answer, waited bool) {
		sample := s.Sample(card, a, waited, time.Millisecond, s.now)
		s.Meter.RecordAll(0, []meter.Sample{sample})
	}
	a := s.look(Ask{})
	count(a, false)
	s.now = s.now.Add(time.Second)
	require.NoError(t, s.put(a.Lease, "card"))
	count(s.look(Ask{}), false)
	count(s.look(Ask{}), true)
	s.now = s.now.Add(70 * time.Second)
	count(s.look(Ask{}), false)
	var r meter.Ratio
	for k, c := range s.Meter.Drain() {
		assert.Equal(t, "site/card", k.Route)
		r.Count(k, c)
	}
	assert.EqualValues(t, 4, r.Requests)
	assert.EqualValues(t, 1, r.OriginLatency.Count(), "who joined waited, who was to fill did not")
	assert.EqualValues(t, 1, r.ByOutcome[meter.Hit])
	assert.EqualValues(t, 1, r.ByOutcome[meter.Joined])
	assert.EqualValues(t, 1, r.ByOutcome[meter.Stale])
	assert.EqualValues(t, 1, r.ByOutcome[meter.Miss])
	assert.EqualValues(t, 1, r.OriginRequests)
	assert.Equal(t, time.Second, r.OriginTime)
	assert.Equal(t, 3*time.Second, r.Saved)
}
