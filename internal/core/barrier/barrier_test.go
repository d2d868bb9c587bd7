package barrier

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gerastic/internal/core/httprules"
	"gerastic/internal/core/store"
	"gerastic/internal/core/tags"
)

// oneFill is a fill under way, which began at a stamp.
type oneFill struct {
	stamp    tags.Stamp
	disowned bool
}

func (f *oneFill) Oldest(most tags.Stamp) tags.Stamp { return min(most, f.stamp) }
func (f *oneFill) Disown()                           { f.disowned = true }

func newBarrier() *Barrier {
	return New(tags.NewMarks(0, 100), store.NewMemory(1<<20, time.Now()))
}

// TestTheLedgerIsLostByEitherClock: the wall clock may be set back, and the other stands still
// while the machine is suspended.
func TestTheLedgerIsLostByEitherClock(t *testing.T) {
	b := newBarrier()
	now := time.Now() // with both clocks
	assert.False(t, b.Lost(now.Add(time.Hour)), "it has no end")
	b.KnowUntil(now.Add(time.Second))
	assert.False(t, b.Lost(now))
	assert.True(t, b.Lost(now.Add(2*time.Second)))
	assert.True(t, b.Lost(now.Round(0).Add(2*time.Second)), "by the wall clock alone")
	assert.True(t, b.Doubts(now.Add(2*time.Second)))
	b.ServeOnWhenLost()
	assert.True(t, b.Lost(now.Add(2*time.Second)), "that is so, whatever is done about it")
	assert.False(t, b.Doubts(now.Add(2*time.Second)))
	b.KnowAlways()
	assert.False(t, b.Lost(now.Add(time.Hour)))
}

// TestCompactKeepsWhatAFillNeeds: a mark is kept as long as something older than it may come.
func TestCompactKeepsWhatAFillNeeds(t *testing.T) {
	b := newBarrier()
	old := &oneFill{stamp: 1}
	b.Guard(old)
	b.Apply(tags.Purge{Sequence: 1, Tags: []string{"a"}})
	b.Apply(tags.Purge{Sequence: 2, Tags: []string{"b"}})
	b.Compact()
	assert.Equal(t, tags.Dropped, b.Judge(&tags.Subject{Stamp: 1, Tags: []string{"b"}}))
	assert.True(t, b.Spares(&tags.Subject{Stamp: 1, Tags: []string{"a"}}))
	assert.Equal(t, 1, b.Len(), "nothing older than the first purge can come")
	old.stamp = 2
	b.Compact()
	assert.Zero(t, b.Len())
}

// TestForgetReachesWhatIsStoredAndWhatComes: and whoever found something before knows it.
func TestForgetReachesWhatIsStoredAndWhatComes(t *testing.T) {
	b := newBarrier()
	coming := &oneFill{}
	b.Guard(coming)
	e := &store.Entry{Key: "k", Header: httprules.Header{}, Browser: httprules.Unset, Idle: httprules.Unset, LifeLimit: httprules.Unset}
	e.Prepare()
	require.NoError(t, b.store.Put(e, time.Now()))
	before := b.Moment()
	assert.False(t, b.ForgotSince(before))
	b.Forget(tags.Purge{All: true})
	assert.True(t, coming.disowned)
	assert.Zero(t, b.store.Figures().Entries)
	assert.True(t, b.ForgotSince(before))
	assert.True(t, b.ForgotSince(before+1), "it was under way")
	assert.False(t, b.ForgotSince(b.Moment()))
	assert.Zero(t, b.Stamp(), "it has no place in the ledger")
}
