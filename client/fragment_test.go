package client

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"math"
	"net/http"
	"net/http/httptest"
	"os"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// TestKeysAreTheSameInEveryLanguage reads the examples that the other clients read, too.
func TestKeysAreTheSameInEveryLanguage(t *testing.T) {
	text, err := os.ReadFile("../clients/js/test/keys.json")
	require.NoError(t, err)
	var rows []struct {
		Name, Key    string
		Parts        []any
		Version      any
		VersionTime  *time.Time
		VersionBytes []int
	}
	require.NoError(t, json.Unmarshal(text, &rows))
	for _, row := range rows {
		f := Fragment{Name: row.Name, Parts: row.Parts, Version: row.Version}
		switch {
		case row.VersionTime != nil:
			f.Version = *row.VersionTime
		case row.VersionBytes != nil:
			var b []byte
			for _, v := range row.VersionBytes {
				b = append(b, byte(v))
			}
			f.Version = b
		}
		key, err := f.Key()
		assert.NoError(t, err)
		assert.Equal(t, row.Key, key)
	}
}

// value draws a part, and says what it is, so that two are the same only if they say the same.
func value(t *rapid.T) (part any, is string) {
	switch rapid.IntRange(0, 6).Draw(t, "kind") {
	case 0:
		s := rapid.StringOf(rapid.SampledFrom([]rune(`ab",()@t\é1`))).Draw(t, "text")
		return s, "text " + s
	case 1:
		n := rapid.IntRange(-2, 12).Draw(t, "number")
		return n, fmt.Sprint("number ", n)
	case 2:
		f := rapid.Float64Range(-2, 2).Draw(t, "float")
		return f, fmt.Sprint("number ", f+0) // -0 is 0
	case 3:
		b := rapid.Bool().Draw(t, "bool")
		return b, fmt.Sprint("bool ", b)
	case 4:
		at := time.Unix(int64(rapid.IntRange(0, 3).Draw(t, "seconds")), int64(rapid.IntRange(0, 2).Draw(t, "ns")))
		return at, fmt.Sprint("time ", at.UnixNano())
	case 5:
		b := rapid.SliceOfN(rapid.Byte(), 0, 2).Draw(t, "bytes")
		return b, fmt.Sprintf("bytes %x", b)
	}
	return nil, "nothing"
}

// TestKeysAreNeverAmbiguous: two lists of parts have one key only if they are the same list.
func TestKeysAreNeverAmbiguous(t *testing.T) {
	draw := func(t *rapid.T) (key, is string) {
		f := Fragment{Name: rapid.SampledFrom([]string{"a", "ab"}).Draw(t, "name")}
		says := []string{f.Name}
		for range rapid.IntRange(0, 3).Draw(t, "parts") {
			part, is := value(t)
			f.Parts, says = append(f.Parts, part), append(says, fmt.Sprintf("%q", is))
		}
		if rapid.Bool().Draw(t, "versioned") {
			version, is := value(t)
			if f.Version = version; version != nil {
				says = append(says, fmt.Sprintf("@%q", is))
			}
		}
		key, err := f.Key()
		require.NoError(t, err)
		return key, strings.Join(says, ",")
	}
	rapid.Check(t, func(t *rapid.T) {
		key, is := draw(t)
		other, otherIs := draw(t)
		assert.Equal(t, is == otherIs, key == other, "%s and %s: %s", is, otherIs, key)
	})
	zero, _ := (&Fragment{Name: "a", Parts: []any{math.Copysign(0, -1)}}).Key()
	assert.Equal(t, "a(0)", zero)
	for _, bad := range []Fragment{{Name: ""}, {Name: "a/b"}, {Name: "a", Parts: []any{math.NaN()}}, {Name: "a", Parts: []any{struct{}{}}}, {Name: "a", Parts: []any{"\xff"}}, {Name: "a", Parts: []any{strings.Repeat("x", 2000)}}, {Name: "a", Version: math.Inf(1)}} {
		_, err := bad.Key()
		assert.Error(t, err, "%+v", bad)
	}
}

// TestWithoutGerastic: an application works when nobody answers, fills what it needs, and
// fills a key once at a time.
func TestWithoutGerastic(t *testing.T) {
	s := New("http://127.0.0.1:1", "none").Fragments(FragmentOptions{})
	f := Fragment{Name: "board", Lifetime: time.Minute, Tags: []string{"port:tholm"}}
	page, tags := Part(context.Background())
	for range 20 {
		body, err := s.LoadOrFill(page, f, func(context.Context) ([]byte, error) { return []byte("made"), nil })
		require.NoError(t, err)
		assert.Equal(t, "made", string(body))
	}
	assert.Equal(t, []string{"port:tholm"}, tags(), "the page carries the tags all the same")
	w := httptest.NewRecorder()
	Tagging(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		_, err := s.LoadOrFill(r.Context(), f, func(context.Context) ([]byte, error) { return nil, nil })
		assert.NoError(t, err)
		told := Report(r.Context())
		require.Len(t, told, 1, "what the page was made of so far")
		assert.Equal(t, ReportItem{Key: "/board()", Found: Alone, Took: told[0].Took, Depth: 1}, told[0])
	})).ServeHTTP(w, httptest.NewRequest("GET", "/", nil))
	assert.Regexp(t, `^(59|60)\.\d{3}$`, w.Header().Get("Gerastic-Life"), "it lives as long as its parts, as of no purge in particular")
	c := s.Counts()
	assert.EqualValues(t, 21, c.Alone)
	assert.EqualValues(t, 21, c.Unreached)
	assert.False(t, s.breaker.closed(time.Now()), "after some failures it is not even asked")
	assert.True(t, s.breaker.closed(time.Now().Add(breakFor+time.Second)), "until a moment has passed")
	_, err := s.LoadOrFill(page, f, func(context.Context) ([]byte, error) { return nil, errors.New("no database") })
	assert.ErrorContains(t, err, "no database")
	assert.Panics(t, func() {
		_, _ = s.LoadOrFill(page, f, func(context.Context) ([]byte, error) { panic("a bug of the application") })
	})
	made, err := s.LoadOrFill(page, Fragment{Name: "board"}, func(context.Context) ([]byte, error) { return []byte("made"), nil })
	require.NoError(t, err)
	assert.Equal(t, "made", string(made), "a forgotten lifetime is a mistake, not for ever; the page works")

	const many = 50
	var asking, now, most, fills atomic.Int64
	var all sync.WaitGroup
	for range many {
		all.Go(func() {
			asking.Add(1)
			_, err := s.LoadOrFill(context.Background(), f, func(context.Context) ([]byte, error) {
				fills.Add(1)
				if n := now.Add(1); n > most.Load() {
					most.Store(n)
				}
				defer now.Add(-1)
				assert.Eventually(t, func() bool { return asking.Load() == many }, 5*time.Second, time.Millisecond)
				return nil, nil
			})
			assert.NoError(t, err)
		})
	}
	all.Wait()
	assert.EqualValues(t, 1, most.Load(), "one at a time")
	assert.Less(t, fills.Load(), int64(25), "and for all who wait")
}

// TestATokenWithALineEnd, as it is read from a file, is said to be none: it would end the head of each request.
func TestATokenWithALineEnd(t *testing.T) {
	asked := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { t.Error("a request went out") }))
	defer asked.Close()
	var log strings.Builder
	s := New(asked.URL, "ger_token\n").Fragments(FragmentOptions{Log: slog.New(slog.NewTextHandler(&log, nil))})
	body, err := s.LoadOrFill(t.Context(), Fragment{Name: "card", Lifetime: time.Minute}, func(context.Context) ([]byte, error) { return []byte("made"), nil })
	require.NoError(t, err)
	assert.Equal(t, "made", string(body))
	assert.Contains(t, log.String(), "line end")
}

// TestTurnsAreNotOlderThanTheAsking: whoever asks during a fill gets one that began after.
func TestTurnsAreNotOlderThanTheAsking(t *testing.T) {
	var turns coalescer
	var truth atomic.Int64
	var all sync.WaitGroup
	for range 8 {
		all.Go(func() {
			for range 200 {
				asked := truth.Add(1)
				m, err := turns.do("key", func() (*made, error) {
					return &made{body: fmt.Append(nil, truth.Load())}, nil
				})
				var got int64
				_, _ = fmt.Sscan(string(m.body), &got)
				assert.NoError(t, err)
				assert.GreaterOrEqual(t, got, asked)
			}
		})
	}
	all.Wait()
	assert.Empty(t, turns.running)
}

// TestKeysReadBack: what a key was made of can be told from it.
func TestKeysReadBack(t *testing.T) {
	at := time.Date(2026, 5, 17, 6, 0, 0, 120, time.UTC)
	f := Fragment{Name: "row", Parts: []any{"a,b)(\"", 7, true, nil, at, []byte{1, 255}, 1.5}, Version: 3}
	key, err := f.Key()
	require.NoError(t, err)
	name, parts, err := ParseKey(key)
	require.NoError(t, err)
	assert.Equal(t, "row", name)
	assert.Equal(t, []any{"a,b)(\"", 7.0, true, nil, at, []byte{1, 255}, 1.5}, parts)
	for _, bare := range []string{"card", "card()", "card()@1"} {
		name, parts, err = ParseKey(bare)
		require.NoError(t, err)
		assert.Equal(t, "card", name)
		assert.Empty(t, parts)
	}
	for _, bad := range []string{"card(", "card(a)", `card("a"`, `card("a" "b")`, `card(t"x")`, `card(x"0")`} {
		_, _, err = ParseKey(bad)
		assert.Error(t, err, bad)
	}
}
