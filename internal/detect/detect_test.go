package detect

import (
	"encoding/json"
	"testing"
	"time"

	"github.com/jackc/pglogrepl"
	"github.com/jackc/pgx/v5/pgtype"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"gerastic/internal/core/changes"
	"gerastic/internal/core/policy"
)

// TestValuesOfTheLogAreThoseOfJSON: a rule that reads a row of the log and one that reads
// to_jsonb of the same row see the same.
func TestValuesOfTheLogAreThoseOfJSON(t *testing.T) {
	for _, c := range []struct {
		kind uint32
		text string
		want any
	}{
		{pgtype.Int8OID, "9007199254740993", json.Number("9007199254740993")},
		{pgtype.NumericOID, "1.50", json.Number("1.50")},
		{pgtype.Float8OID, "NaN", "NaN"},
		{pgtype.Float8OID, "-Infinity", "-Infinity"},
		{pgtype.BoolOID, "t", true},
		{pgtype.BoolOID, "f", false},
		{pgtype.TextOID, "12", "12"},
		{pgtype.TimestamptzOID, "2026-05-17 06:00:00+02", "2026-05-17T06:00:00+02:00"},
		{pgtype.TimestamptzOID, "2026-05-17 06:00:00.5+05:30", "2026-05-17T06:00:00.5+05:30"},
		{pgtype.TimestampOID, "2026-05-17 06:00:00", "2026-05-17T06:00:00"},
		{pgtype.DateOID, "2026-05-17", "2026-05-17"},
		{pgtype.JSONBOID, `{"a": [1, 12345678901234567890]}`, map[string]any{"a": []any{json.Number("1"), json.Number("12345678901234567890")}}},
		{pgtype.JSONOID, `broken`, "broken"},
		{pgtype.TextArrayOID, `{"a b",c}`, []any{"a b", "c"}},
	} {
		assert.Equal(t, c.want, valueOf(c.kind, c.text), c.text)
	}
	table := &pglogrepl.RelationMessage{Columns: []*pglogrepl.RelationMessageColumn{{Name: "id", DataType: pgtype.Int4OID, Flags: 1}, {Name: "name", DataType: pgtype.TextOID}, {Name: "text", DataType: pgtype.TextOID}}}
	row := &pglogrepl.TupleData{Columns: []*pglogrepl.TupleDataColumn{{DataType: 't', Data: []byte("7")}, {DataType: 'n'}, {DataType: 'u'}}}
	assert.Equal(t, changes.Fields{"id": json.Number("7"), "name": nil}, fieldsOf(table, row, false), "a long value that did not change is not sent")
	assert.Equal(t, changes.Fields{"id": json.Number("7")}, fieldsOf(table, row, true))
	assert.Nil(t, fieldsOf(table, nil, false))
}

func TestCursorsAreRead(t *testing.T) {
	times, numbers := &reading{cursor: cursorType{isTime: true}}, &reading{}
	at := time.Date(2026, 5, 17, 4, 0, 0, 500_000_000, time.UTC).UnixMicro()
	for text, want := range map[string]position{"2026-05-17 06:00:00.5+02": at, "2026-05-17 09:30:00.5+05:30": at, "2026-05-17 04:00:00.5": at} {
		got, err := times.parsePosition(text)
		require.NoError(t, err)
		assert.Equal(t, want, got, text)
	}
	for text, want := range map[string]position{"7": 7, "-7": -7, "7.9": 7, "1e3": 1000} {
		got, err := numbers.parsePosition(text)
		require.NoError(t, err)
		assert.Equal(t, want, got, text)
	}
	before, err := times.parsePosition("-infinity")
	require.NoError(t, err)
	assert.Less(t, before, position(0))
	_, err = times.parsePosition("soon")
	assert.ErrorContains(t, err, "is not a time")
	_, err = numbers.parsePosition("many")
	assert.ErrorContains(t, err, "is not a number")

	second := position(time.Second / time.Microsecond)
	for _, c := range []struct {
		at, clock position
		may       bool
	}{{10 * second, 10*second + 1, true}, {10 * second, 11*second + 1, false}, {10*second + 1, 10*second + 2, false}, {10 * second, 9*second + 1, true}} {
		assert.Equal(t, c.may, times.mayChangeAgain(c.at, c.clock), "%+v", c)
	}
	assert.False(t, numbers.mayChangeAgain(second, second))
}

// TestWhatWasSeenReadsBack, and is bounded by the overlap.
func TestWhatWasSeenReadsBack(t *testing.T) {
	sets := rapid.MapOf(rapid.Uint64(), rapid.Int64())
	rapid.Check(t, func(t *rapid.T) {
		seen := [2]map[uint64]position{sets.Draw(t, "first"), sets.Draw(t, "second")}
		assert.Equal(t, seen, unpackSeen(packSeen(seen)))
	})
	assert.Equal(t, [2]map[uint64]position{{}, {}}, unpackSeen([]byte("x")))
	r := &reading{cursor: cursorType{isTime: true}, run: &run{source: &policy.Source{Overlap: time.Second}}, seen: map[uint64]position{}}
	r.remember(1, 100, 0)
	r.remember(2, 5_000_000, 0)
	r.forget(5_500_000)
	assert.Equal(t, map[uint64]position{2: 5_000_000}, r.seen)
}

// TestRowsAreToldApart: by every value, by whether it is there, and by what was done.
func TestRowsAreToldApart(t *testing.T) {
	a, empty := "a", ""
	rows := []map[string]*string{{"x": &a}, {"x": &empty}, {"x": nil}, {"y": &a}, {"x": &a, "y": nil}}
	digests := map[uint64]bool{}
	for _, row := range rows {
		digests[fingerprint(row, changes.Update)] = true
		digests[fingerprint(row, changes.Delete)] = true
	}
	assert.Len(t, digests, 2*len(rows))
	assert.Equal(t, fingerprint(rows[0], changes.Update), fingerprint(map[string]*string{"x": &a}, changes.Update))
}
