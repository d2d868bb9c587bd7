package meter

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func TestWorkOf(t *testing.T) {
	for _, c := range []struct {
		name           string
		counted, timed []string
		want           Work
	}{
		{"nothing", nil, nil, ""},
		{"counts", []string{"queries=7, rows=120"}, nil, "queries=7,rows=120"},
		{"on two lines, the last of a name counts", []string{"queries=7", "queries=2.5"}, nil, "queries=2.5"},
		{"what is no number", []string{`a, b="x", c=?1, d=(1 2), e=-1, f=0, g=3`}, nil, "g=3"},
		{"a field that is none", []string{"queries=7, Rows"}, nil, ""},
		{"durations", nil, []string{`db;dur=53.2, app;desc="a, b;dur=9";dur=47, cache, lb;dur="2"`, "db;dur=1"}, "app=47,db=54.2,lb=2"},
		{"a count before a duration of its name", []string{"db=2"}, []string{"db;dur=53"}, "db=2"},
		{"what our own clients time", nil, []string{`fragments;desc="2 reused";dur=3, db;dur=1`}, "db=1"},
		{"what cannot be a name", nil, []string{"a b;dur=1, ;dur=2, c;dur=x, d;DUR=4"}, "d=4"},
	} {
		assert.Equal(t, c.want, WorkOf(c.counted, c.timed), c.name)
	}
	many := map[string]float64{}
	for i := range 100 {
		many[fmt.Sprint("k", i)] = 1
	}
	n := 0
	NewWork(many).Each(func(string, float64) { n++ })
	assert.Equal(t, maxWork, n, "an answer cannot name more")
}

// TestPromise7WorkAgrees: what is sampled is in the sums, however cells are drained, written and read.
func TestPromise7WorkAgrees(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var m Meter
		want := Amounts{}
		got := Amounts{}
		for range rapid.IntRange(1, 50).Draw(t, "steps") {
			name, n := rapid.SampledFrom([]string{"queries", "rows", "ms"}).Draw(t, "name"), float64(rapid.IntRange(1, 1000).Draw(t, "n"))
			s := Sample{Route: rapid.SampledFrom([]string{"a", "b"}).Draw(t, "route"), Outcome: Hit, Spared: NewWork(map[string]float64{name: n})}
			amount := Amount{Saved: n}
			if rapid.Bool().Draw(t, "made") {
				s.Outcome, s.Spent, s.Spared = Miss, s.Spared, ""
				amount = Amount{Spent: n}
			}
			want.Add(name, amount)
			m.Record(m.Stripe(), &s)
			if rapid.IntRange(0, 9).Draw(t, "drain") == 0 {
				for _, cell := range m.Drain() {
					got.AddWritten(cell.Work.String() + cell.Work.String())
				}
				for name := range got { // written twice, one behind the other, it is twice as much
					got[name] = Amount{got[name].Spent / 2, got[name].Saved / 2}
				}
				require.Equal(t, Amounts(want), got)
				got, want = Amounts{}, Amounts{}
			}
		}
		for _, cell := range m.Drain() {
			got.Merge(cell.Work)
		}
		require.Equal(t, want, got)
	})
}

func TestSavings(t *testing.T) {
	var r SavingsReport
	r.Count(Key{Route: "a", Outcome: Hit}, &Cell{Requests: 8, Bytes: 80, Saved: 8 * time.Second, Work: Amounts{"queries": {Saved: 16}}})
	r.Count(Key{Route: "a", Outcome: Miss}, &Cell{Requests: 2, Bytes: 20, OriginRequests: 2, Work: Amounts{"queries": {Spent: 4}}})
	r.Count(Key{Route: "a", Outcome: Revalidated}, &Cell{Requests: 1, OriginRequests: 1})
	r.Count(Key{Route: "ns/card", Outcome: Hit}, &Cell{Requests: 5, Work: Amounts{"queries": {Saved: 10}, "rows": {Saved: 1}}})
	rows := r.Rows()
	require.Len(t, rows, 2)
	assert.Equal(t, "a", rows[0].Route, "what saved most time comes first")
	assert.Equal(t, Amounts{"queries": {Spent: 4, Saved: 16}}, rows[0].Work)
	per, ok := rows[0].PerChange()
	assert.Equal(t, []any{5.5, true}, []any{per, ok}, "eleven requests, of which two answers had to be made")
	_, ok = rows[1].PerChange()
	assert.False(t, ok, "none was made")
	assert.EqualValues(t, 11, r.Total.Requests, "fragments are none of visitors' requests")
	assert.Equal(t, Amount{4, 26}, r.Total.Work["queries"])
	assert.InDelta(t, 26*0.5+1*2, r.Total.Money(map[string]float64{"queries": 0.5, "rows": 2, "other": 9}), 1e-9)
	full := Amounts{}
	for i := range 1000 {
		full.Add(fmt.Sprint("k", i), Amount{1, 1})
	}
	assert.LessOrEqual(t, len(full), maxWorkOf+1, "names have a bound")
	assert.Equal(t, Amount{1000 - maxWorkOf, 1000 - maxWorkOf}, full[OtherWork])
}
