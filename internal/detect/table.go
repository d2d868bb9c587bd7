package detect

import (
	"cmp"
	"context"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"hash/fnv"
	"maps"
	"math"
	"math/big"
	"slices"
	"strings"
	"time"

	"gerastic/internal/core/changes"
	"gerastic/internal/records"
)

// readTable reads what changed in a table since the last run, and purges.
func (w *watcher) readTable(ctx context.Context, trigger string) (records.Run, error) {
	rec, err := w.Records()
	if err != nil {
		return records.Run{}, err
	}
	lead, err := rec.TakeLead(ctx, w.source.Name)
	if err != nil {
		return records.Run{}, err
	}
	if lead == nil {
		return records.Run{}, ErrRunning
	}
	defer lead.Close()
	state, err := rec.Source(ctx, w.source.Name, string(w.source.Kind))
	if err != nil {
		return records.Run{}, err
	}
	state.Node, state.Detail = w.Node, ""
	began := time.Now()
	r := w.begin(w.source.Name, trigger, w.source, nil)
	err = r.table(ctx, &state)
	if err == nil && !lead.Held(ctx) {
		err = errors.New("the right to read the source was lost on the way; what was found is purged, and is read again")
	}
	if err == nil {
		state.Checked, state.Error, state.Failures = &began, "", 0
		err = rec.SaveSource(ctx, state) // only now: the purges are in the ledger
	} else if kept, again := rec.Source(ctx, w.source.Name, string(w.source.Kind)); again == nil {
		kept.Node, kept.Error, kept.Failures = w.Node, err.Error(), kept.Failures+1
		_ = rec.SaveSource(ctx, kept)
	}
	return r.close(ctx, rec, err)
}

// table reads both queries from where they were.
func (r *run) table(ctx context.Context, state *records.Source) error {
	var err error
	if r.pool, err = r.pools.of(ctx, r.source.Database); err != nil {
		return err
	}
	seen, ahead := unpackSeen(state.Seen), unpackAhead(state.Ahead)
	for i, q := range []struct {
		name, text string
		cursor     **string
		op         changes.Op
	}{{"query", r.source.Query, &state.Cursor, changes.Unknown}, {"deleted", r.source.Deleted, &state.Deleted, changes.Delete}} {
		if q.text == "" {
			continue
		}
		read := &reading{run: r, query: q.text, op: q.op, before: seen[i], ahead: ahead[i]}
		next, err := read.from(ctx, *q.cursor)
		if err != nil {
			return fmt.Errorf("source %s, %s: %w", r.source.Name, q.name, err)
		}
		if *q.cursor == nil {
			state.Detail = "begun: what was there before the first run is not read"
		}
		if read.blind {
			state.Detail = blindNote
		}
		*q.cursor = &next
		seen[i], ahead[i] = read.seen, read.ahead
	}
	if err := cmp.Or(r.flush(ctx), r.refused); err != nil {
		return err
	}
	state.Seen, state.Ahead = packSeen(seen), packAhead(ahead)
	return nil
}

const blindNote = "its user may not see which transactions run, so that a row may be missed that is committed later than the overlap after its time; grant process on *.* to it"

// reading is one query read once. Its cursor is a time or a number.
//
// A row may be committed after the time or the number that it carries, behind rows that were
// read before it. So the cursor waits: it goes on to what was read only when every transaction
// that had not ended then has, and a time's overlap has passed besides; times are read again
// from an overlap before it. What was seen in between is left out. Where clocks differ, a row
// may carry a time to come: the cursor never goes beyond the database's own clock.
type reading struct {
	*run
	query  string
	op     changes.Op
	before map[uint64]position // what the last run read in the overlap, and beyond
	seen   map[uint64]position // what this one did
	ahead  *ahead              // how far was read beyond the cursor; nil: no further
	bad    error               // the first row that made no sense: the others count all the same
	begins bool                // the first run: what is there is noted, not taken
	cursor cursorType
	blind  bool // what is committed late may be missed beyond the overlap
}

// ahead is how far a query was read, and when the cursor may go there.
type ahead struct {
	Last  string    `json:"last"`  // as a cursor
	Until int64     `json:"until"` // the transactions below this have ended
	Read  time.Time `json:"read"`
}

// position is a cursor's value: of a time in microseconds, or of a number.
type position = int64

// mostSeen bounds what is remembered. Beyond, the oldest are forgotten: they may be
// purged twice.
const mostSeen = 1_000_000

func (r *reading) from(ctx context.Context, cursor *string) (next string, err error) {
	if err := r.describe(ctx); err != nil {
		return "", err
	}
	if r.begins = cursor == nil; r.begins {
		first, err := r.pool.first(ctx, r.query, r.cursor)
		if err != nil {
			return "", err
		}
		cursor = &first
	}
	running, err := r.transactions(ctx)
	if err != nil {
		return "", err
	}
	start, limit, err := r.span(ctx, *cursor)
	if err != nil {
		return "", err
	}
	r.seen = map[uint64]position{}
	last := *cursor
	lastPlace, err := r.parsePosition(last)
	if err != nil {
		return "", err
	}
	clock := r.clockAt(limit)
	err = r.pool.rows(ctx, r.query, []string{start}, func(row map[string]*string) error {
		c, at, text, err := r.row(row)
		if err != nil {
			r.bad = cmp.Or(r.bad, err)
			return nil
		}
		if at > lastPlace {
			last, lastPlace = text, at
		}
		digest := fingerprint(row, r.op)
		if !r.mayChangeAgain(at, clock) {
			r.remember(digest, at, lastPlace)
		}
		if _, known := r.before[digest]; known || r.begins {
			return nil
		}
		return r.take(ctx, c)
	})
	if err = cmp.Or(err, r.bad); err != nil {
		return "", cmp.Or(r.flush(ctx), err)
	}
	if r.cursor.isTime && clock < lastPlace {
		last = limit
	}
	after, err := r.transactions(ctx)
	if err != nil {
		return "", err
	}
	to := r.goOn(*cursor, last, running.oldest, after.next)
	if at, err := r.parsePosition(to); err == nil {
		r.forget(at)
	}
	return to, nil
}

// span is where reading goes on from a cursor, and, of times, the time that it is now.
func (r *reading) span(ctx context.Context, cursor string) (start, limit string, err error) {
	if start, limit, err = r.pool.span(ctx, cursor, r.cursor, r.source.Overlap); err != nil {
		return "", "", fmt.Errorf("the cursor %s cannot be gone on from: %w", cursor, err)
	}
	return start, limit, nil
}

// clockAt is the position of a limit; before all others, if cursors are not times.
func (r *reading) clockAt(limit string) position {
	if at, err := r.parsePosition(limit); r.cursor.isTime && err == nil {
		return at
	}
	return math.MinInt64
}

func (r *reading) transactions(ctx context.Context) (t transactions, err error) {
	if t, err = r.pool.transactions(ctx); err != nil {
		return t, fmt.Errorf("asking which transactions have ended: %w", err)
	}
	r.blind = r.blind || t.blind
	return t, nil
}

// goOn is where the cursor goes after a reading that came to last: before it, the transactions
// from oldest on had not ended; after it, those from next on had not begun.
func (r *reading) goOn(cursor, last string, oldest, next int64) string {
	now := time.Now()
	if r.begins { // what is there was not taken: nothing before it is waited for
		r.ahead = &ahead{last, next, now}
		return cursor
	}
	if r.ahead != nil && r.ahead.Until > next { // the database was set back, and counts anew
		r.ahead = nil
		return cursor
	}
	if r.ahead != nil && (oldest < r.ahead.Until || !r.cursor.isTime && now.Sub(r.ahead.Read) < r.source.Overlap) {
		return cursor
	}
	if r.ahead != nil {
		cursor = r.ahead.Last
	}
	r.ahead = &ahead{last, next, now}
	return cursor
}

// mayChangeAgain reports whether a row may change once more without another time: times in
// whole seconds, and the second has not ended. Then it is taken again at the next reading,
// even if it is as it was: it may have been otherwise meanwhile.
func (r *reading) mayChangeAgain(at, clock position) bool {
	const second = position(time.Second / time.Microsecond)
	return r.cursor.isTime && at%second == 0 && at > clock-second && at < clock+second
}

// describe learns what the cursor is, and checks the query's columns.
func (r *reading) describe(ctx context.Context) error {
	of, columns, err := r.pool.describe(ctx, r.query)
	if err != nil {
		return err
	}
	r.cursor = of
	need := []string{"kind", "id", "cursor", "after"}
	if r.op == changes.Delete {
		need[3] = "before"
	}
	for _, name := range need {
		if !slices.Contains(columns, name) {
			return fmt.Errorf("the query gives no column %s; it must give %s", name, strings.Join(need, ", "))
		}
	}
	return nil
}

// row reads a change.
func (r *reading) row(row map[string]*string) (c *changes.Change, at position, cursor string, err error) {
	if row["kind"] == nil || row["cursor"] == nil {
		return nil, 0, "", errors.New("a row has no kind or no cursor; both must be there in every row")
	}
	c = &changes.Change{Kind: *row["kind"], Op: r.op}
	for name, into := range map[string]*changes.Fields{"before": &c.Before, "after": &c.After} {
		if text := row[name]; text != nil {
			if *into, err = changes.ParseFields([]byte(*text)); err != nil {
				return nil, 0, "", fmt.Errorf("column %s of %s %s: %w", name, c.Kind, deref(row["id"]), err)
			}
		}
	}
	if op := row["op"]; op != nil {
		c.Op = changes.Op(*op)
	}
	if err := c.Check(); err != nil {
		return nil, 0, "", fmt.Errorf("%s %s: %w", c.Kind, deref(row["id"]), err)
	}
	cursor = *row["cursor"]
	if at, err = r.parsePosition(cursor); err == nil && r.cursor.isTime {
		c.At = time.UnixMicro(at)
	}
	return c, at, cursor, err
}

func deref(s *string) string {
	if s == nil {
		return ""
	}
	return *s
}

// parsePosition reads a cursor's value.
func (r *reading) parsePosition(text string) (position, error) {
	if !r.cursor.isTime {
		n, ok := new(big.Float).SetString(text)
		if !ok {
			return 0, fmt.Errorf("the cursor %q is not a number", text)
		}
		whole, _ := n.Int64()
		return whole, nil
	}
	if text == noTime || isNumber(text) { // a number: nothing told yet that it is a time
		return math.MinInt64 / 2, nil
	}
	t, err := parseTime(text)
	return t.UnixMicro(), err
}

// fingerprint tells a row from every other, and from itself at another cursor or with other
// content: what changes twice within the resolution of its time is two changes.
func fingerprint(row map[string]*string, op changes.Op) uint64 {
	h := fnv.New64a()
	fmt.Fprintf(h, "%q", op)
	for _, name := range slices.Sorted(maps.Keys(row)) {
		fmt.Fprintf(h, " %q %t %q", name, row[name] != nil, deref(row[name]))
	}
	return h.Sum64()
}

func (r *reading) remember(digest uint64, at, last position) {
	if len(r.seen) >= mostSeen {
		r.forget(last)
	}
	if len(r.seen) < mostSeen {
		r.seen[digest] = at
	}
}

// forget drops what lies before the overlap of a cursor.
func (r *reading) forget(last position) {
	least := last - 1
	if r.cursor.isTime {
		least = last - r.source.Overlap.Microseconds()
	}
	for digest, at := range r.seen {
		if at < least {
			delete(r.seen, digest)
		}
	}
}

func packAhead(all [2]*ahead) string {
	text, err := json.Marshal(all)
	if err != nil {
		return "" // then it is read again from the cursor
	}
	return string(text)
}

func unpackAhead(text string) (all [2]*ahead) {
	_ = json.Unmarshal([]byte(text), &all) // empty before the first reading
	return all
}

// packSeen writes what was seen of both queries: how much of the first, and then each
// digest with its place.
func packSeen(seen [2]map[uint64]position) []byte {
	packed := binary.LittleEndian.AppendUint64(nil, uint64(len(seen[0])))
	for _, set := range seen {
		for digest, at := range set {
			packed = binary.LittleEndian.AppendUint64(binary.LittleEndian.AppendUint64(packed, digest), uint64(at))
		}
	}
	return packed
}

func unpackSeen(packed []byte) (seen [2]map[uint64]position) {
	seen = [2]map[uint64]position{{}, {}}
	if len(packed) < 8 {
		return seen
	}
	first := binary.LittleEndian.Uint64(packed)
	for i, rest := uint64(0), packed[8:]; len(rest) >= 16; i, rest = i+1, rest[16:] {
		set := seen[0]
		if i >= first {
			set = seen[1]
		}
		set[binary.LittleEndian.Uint64(rest)] = position(binary.LittleEndian.Uint64(rest[8:]))
	}
	return seen
}
