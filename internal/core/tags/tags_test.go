package tags

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"
)

func TestMarksJudge(t *testing.T) {
	subject := Subject{Tags: []string{"port:tholm", "board"}, Route: "departures", Host: "h", Path: "/p", Query: "page=2", Stamp: 5}
	for _, c := range []struct {
		name  string
		purge Purge
		want  Verdict
	}{
		{"a later purge of its tag", Purge{Sequence: 6, Tags: []string{"board"}}, Dropped},
		{"the purge that it was filled after", Purge{Sequence: 5, Tags: []string{"board"}}, Alive},
		{"a tag that only begins alike", Purge{Sequence: 6, Tags: []string{"boar"}}, Alive},
		{"case counts in tags", Purge{Sequence: 6, Tags: []string{"Board"}}, Alive},
		{"its tag on its host", Purge{Sequence: 6, Tags: []string{"board"}, Host: "h"}, Dropped},
		{"its tag on another host (RFC 9875 §3)", Purge{Sequence: 6, Tags: []string{"board"}, Host: "g"}, Alive},
		{"its route", Purge{Sequence: 6, Routes: []string{"departures"}}, Dropped},
		{"another route", Purge{Sequence: 6, Routes: []string{"other"}}, Alive},
		{"its URL", Purge{Sequence: 6, URLs: []URL{{Host: "h", Path: "/p", Query: "page=2"}}}, Dropped},
		{"its URL with another query", Purge{Sequence: 6, URLs: []URL{{Host: "h", Path: "/p", Query: "page=3"}}}, Alive},
		{"its URL with any query", Purge{Sequence: 6, URLs: []URL{{Host: "h", Path: "/p", AnyQuery: true}}}, Dropped},
		{"its URL on any host", Purge{Sequence: 6, URLs: []URL{{Host: "ignored", AnyHost: true, Path: "/p", Query: "page=2"}}}, Dropped},
		{"its URL on another host", Purge{Sequence: 6, URLs: []URL{{Host: "g", Path: "/p", AnyQuery: true}}}, Alive},
		{"everything", Purge{Sequence: 6, All: true}, Dropped},
		{"its tags together", Purge{Sequence: 6, Tags: []string{"port:tholm", "board"}, Together: true}, Dropped},
		{"one of two tags together", Purge{Sequence: 6, Tags: []string{"port:saltern", "board"}, Together: true}, Alive},
		{"one tag together is that tag", Purge{Sequence: 6, Tags: []string{"board"}, Together: true}, Dropped},
		{"its host", Purge{Sequence: 6, Hosts: []string{"h"}}, Dropped},
		{"another host", Purge{Sequence: 6, Hosts: []string{"g"}}, Alive},
		{"how a tag begins", Purge{Sequence: 6, Begins: []string{"port:"}}, Dropped},
		{"how no tag begins", Purge{Sequence: 6, Begins: []string{"abcdefgh"}}, Alive},
		{"how its path begins", Purge{Sequence: 6, Below: []Below{{AnyHost: true, Path: "/"}}}, Dropped},
		{"how its path begins, on its host", Purge{Sequence: 6, Below: []Below{{Host: "h", Path: "/p"}}}, Dropped},
		{"how its path begins, on another host", Purge{Sequence: 6, Below: []Below{{Host: "g", Path: "/p"}}}, Alive},
		{"a longer path", Purge{Sequence: 6, Below: []Below{{AnyHost: true, Path: "/p/"}}}, Alive},
		{"softened", Purge{Sequence: 6, Mode: Soften, Tags: []string{"board"}}, Softened},
		{"everything softened", Purge{Sequence: 6, Mode: Soften, All: true}, Softened},
	} {
		t.Run(c.name, func(t *testing.T) {
			m := NewMarks(5, 100)
			m.Apply(c.purge)
			assert.Equal(t, c.want, m.Judge(&subject))
			later := subject
			later.Stamp = m.Stamp()
			assert.Equal(t, Alive, m.Judge(&later), "what is filled after the purge lives")
		})
	}
}

// TestPromise2MarksAgreeWithTheLedger compares the marks with reading the whole ledger.
func TestPromise2MarksAgreeWithTheLedger(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		limit := rapid.SampledFrom([]int{3, 1000}).Draw(t, "limit")
		m := NewMarks(0, limit)
		name := rapid.SampledFrom([]string{"a", "b", "c", "d", "e"})
		path := rapid.StringMatching(`/[ab]{0,3}`)
		var ledger []Purge
		for i := range rapid.IntRange(1, 12).Draw(t, "purges") {
			p := Purge{Sequence: Stamp(i + 1), Mode: Mode(rapid.IntRange(0, 1).Draw(t, "mode"))}
			switch rapid.IntRange(0, 10).Draw(t, "kind") {
			case 0:
				p.All = true
			case 1:
				p.Routes = []string{name.Draw(t, "route")}
			case 2:
				p.Hosts = []string{name.Draw(t, "host")}
			case 3, 4:
				p.URLs = []URL{{Host: name.Draw(t, "host"), Path: path.Draw(t, "path"), AnyQuery: rapid.Bool().Draw(t, "any")}}
			case 5:
				p.Below = []Below{{Host: name.Draw(t, "host"), Path: path.Draw(t, "path"), AnyHost: rapid.Bool().Draw(t, "any")}}
			case 10:
				p.Begins = []string{rapid.StringMatching(`[a-c]{0,2}`).Draw(t, "begin")}
			default:
				p.Tags = rapid.SliceOfN(name, 1, 3).Draw(t, "tags")
				p.Together = rapid.Bool().Draw(t, "together")
			}
			ledger = append(ledger, p)
			m.Apply(p)
		}
		s := Subject{Tags: rapid.SliceOfN(name, 0, 3).Draw(t, "entry tags"), Route: name.Draw(t, "entry route"), Host: name.Draw(t, "entry host"), Path: path.Draw(t, "entry path"), Reaching: rapid.Bool().Draw(t, "reaching"), Stamp: Stamp(rapid.IntRange(0, len(ledger)).Draw(t, "stamp"))}
		since := func(stamp Stamp) Verdict {
			want := Alive
			for _, p := range ledger {
				if stamp < p.Sequence && p.Covers(&s) {
					want = max(want, map[Mode]Verdict{Drop: Dropped, Soften: Softened}[p.Mode])
				}
			}
			return want
		}
		want := since(s.Stamp)
		if got := m.Judge(&s); m.FloorRaised() == 0 {
			assert.Equal(t, want, got)
		} else {
			assert.GreaterOrEqual(t, got, want, "at the limit more may count as purged, never less")
		}
		assert.LessOrEqual(t, m.Len(), limit+3)

		// What is known to live up to a place is judged by the marks above it, so that
		// those below can go.
		known := Stamp(rapid.IntRange(0, len(ledger)).Draw(t, "known"))
		if m.FloorRaised() == 0 {
			m.Compact(known)
			assert.Equal(t, since(max(known, s.Stamp)), m.JudgeSince(&s, max(known, s.Stamp)))
			assert.LessOrEqual(t, m.Len(), 3*max(0, len(ledger)-int(known)))
			if s.Stamp < min(known, m.Stamp()) {
				assert.Equal(t, Dropped, m.Judge(&s), "what is older than the marks counts as purged")
			}
		}
	})
}

// TestALedgerThatWasSetBack: what says that it is of a place which the ledger does not have is
// of no use, and purges at that place later take what began before them.
func TestALedgerThatWasSetBack(t *testing.T) {
	m := NewMarks(0, 100)
	for sequence := range Stamp(5) {
		m.Apply(Purge{Sequence: sequence + 1, Tags: []string{"a"}})
	}
	m.Rewind(3)
	assert.EqualValues(t, 3, m.Stamp())
	assert.Zero(t, m.Len())
	for stamp, want := range map[Stamp]Verdict{1: Dropped, 2: Dropped, 3: Alive, 4: Dropped, 5: Dropped} {
		assert.Equal(t, want, m.Judge(&Subject{Stamp: stamp}), "stamp %d", stamp)
	}
	m.Apply(Purge{Sequence: 4, Tags: []string{"b"}})
	assert.Equal(t, Dropped, m.Judge(&Subject{Stamp: 3, Tags: []string{"b"}}))
	assert.Equal(t, Alive, m.Judge(&Subject{Stamp: 3, Tags: []string{"a"}}), "that was in the other history")
}

func BenchmarkApply(b *testing.B) {
	m := NewMarks(0, DefaultLimit)
	for i := 0; b.Loop(); i++ {
		m.Apply(Purge{Sequence: Stamp(i + 1), Tags: []string{fmt.Sprint("tag ", i%1000)}})
	}
}

// TestPromise6SetsOfTagsAreCounted: each is a mark, and none makes every entry that carries a
// common tag look at all of them.
func TestPromise6SetsOfTagsAreCounted(t *testing.T) {
	m := NewMarks(0, 1000)
	for i := range 900 {
		m.Apply(Purge{Sequence: Stamp(i + 1), Together: true, Tags: []string{"common", fmt.Sprint("one ", i)}})
	}
	assert.Equal(t, 900, m.Len())
	assert.LessOrEqual(t, len(m.together["common"]), 1)
	assert.Equal(t, Dropped, m.Judge(&Subject{Tags: []string{"common", "one 7"}, Stamp: 3}))
	assert.Equal(t, Alive, m.Judge(&Subject{Tags: []string{"common", "one"}, Stamp: 3}))
	before := m.Bytes()
	m.Apply(Purge{Sequence: 901, Together: true, Tags: []string{"one 7", "common"}})
	assert.Equal(t, before, m.Bytes(), "the same set, once more")
	for i := range 200 {
		m.Apply(Purge{Sequence: Stamp(i + 902), Together: true, Tags: []string{"common", fmt.Sprint("more ", i)}})
	}
	assert.NotZero(t, m.FloorRaised())
	assert.LessOrEqual(t, m.Len(), 1000)
	assert.Equal(t, Dropped, m.Judge(&Subject{Tags: []string{"common", "one 890"}, Stamp: 3}), "what was folded counts as purged")

	small := NewMarks(0, 1000)
	small.KeepWithin(10_000)
	for i := range 100 {
		small.Apply(Purge{Sequence: Stamp(i + 1), Tags: []string{strings.Repeat("x", 900) + fmt.Sprint(i)}})
		assert.LessOrEqual(t, small.Bytes(), int64(11_000))
	}
	assert.Equal(t, Dropped, small.Judge(&Subject{Tags: []string{strings.Repeat("x", 900) + "5"}, Stamp: 5}))
	assert.Equal(t, Dropped, small.Judge(&Subject{Tags: []string{strings.Repeat("x", 900) + "99"}, Stamp: 99}))
	small.Apply(Purge{Sequence: 200, All: true})
	assert.Zero(t, small.Bytes())
}

// TestAPurgeOfOneEntry takes it, and what may be it, and nothing else.
func TestAPurgeOfOneEntry(t *testing.T) {
	m := NewMarks(0, 100)
	p := Purge{Sequence: 1, One: &One{Path: "/a", Name: "n1", URL: "http://x/a"}}
	m.Apply(p)
	for name, s := range map[string]Subject{"dropped": {Path: "/a", Name: "n1"}, "dropped, since it may be": {Path: "/a"}, "other": {Path: "/a", Name: "n2"}, "elsewhere": {Path: "/b", Name: "n1"}} {
		want := map[bool]Verdict{true: Dropped, false: Alive}[strings.HasPrefix(name, "dropped")]
		assert.Equal(t, want, m.Judge(&s), name)
		assert.Equal(t, want == Dropped, p.Covers(&s), name)
	}
	assert.NoError(t, p.Check())
	m.Compact(1)
	assert.Zero(t, m.Len())
}
