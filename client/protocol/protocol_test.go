package protocol

import (
	"bytes"
	"encoding/hex"
	"io"
	"strings"
	"testing"
	"testing/iotest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestGroups(t *testing.T) {
	groups, cut := ParseGroups([]string{`"port:tholm", "with \"quotes\""`, `token, "b";x=1`})
	assert.Equal(t, []string{"port:tholm", `with "quotes"`, "b"}, groups, "members that are not strings are left out")
	assert.Zero(t, cut)
	groups, _ = ParseGroups([]string{`"unclosed`})
	assert.Empty(t, groups, "a field that does not parse is ignored whole")
	long := strings.Repeat("x", MaxTag+1)
	groups, cut = ParseGroups([]string{FormatGroups([]string{"a", long, "Fähre"})})
	assert.Equal(t, []string{"a", "Fähre"}, groups)
	assert.Equal(t, 1, cut)
}

func TestLifeAndParts(t *testing.T) {
	for text, want := range map[string]Life{
		"12.3;as-of=812": {Left: 12300 * time.Millisecond, AsOf: 812, Dated: true},
		"7":              {Left: 7 * time.Second},
		"soon;as-of=3":   {AsOf: 3, Dated: true},
		"0.000":          {},
	} {
		life, ok := ParseLife([]string{text})
		assert.True(t, ok)
		assert.Equal(t, want, life, text)
	}
	assert.Equal(t, "12.300;as-of=812", Life{Left: 12300 * time.Millisecond, AsOf: 812, Dated: true}.String())
	for _, lines := range [][]string{nil, {""}, {"((("}} {
		_, ok := ParseLife(lines)
		assert.False(t, ok, "%q", lines)
	}
	parts := []Part{{Name: "site/card(3)", Found: "reused", Depth: 1, Age: time.Minute}, {Name: "site/Fähre()", Found: "filled", Depth: 2, Took: time.Millisecond, Age: -1}, {Name: "site/été()", Found: "stale", Depth: 1}}
	field := FormatParts(parts)
	assert.Contains(t, field, `"site/card(3)";found=reused;depth=1;took=0.0;age=60`)
	assert.Equal(t, []string{"site/card(3)", "site/été()"}, ParseDirectParts([]string{field}))
	assert.Less(t, len(FormatParts(make([]Part, 5000))), 48<<10)
}

// TestMessagesReadBack: as they were written, one after the other, with members that are not
// known passed over.
func TestMessagesReadBack(t *testing.T) {
	var b bytes.Buffer
	lease := 0.0
	for _, m := range []any{Lookup{Keys: []string{"a"}, Lease: &lease}, LookupAnswer{At: 1, State: "missing"}, LookupAnswer{At: 2, State: "fresh", Body: []byte("x"), Tags: []string{"t"}}} {
		require.NoError(t, Append(&b, m))
	}
	var q Lookup
	rest, err := Next(b.Bytes(), &q)
	require.NoError(t, err)
	assert.Equal(t, Lookup{Keys: []string{"a"}, Lease: &lease}, q)
	var missing, found LookupAnswer
	rest, err = Next(rest, &missing)
	require.NoError(t, err)
	assert.Empty(t, missing.Body)
	rest, err = Next(rest, &found)
	require.NoError(t, err)
	assert.Equal(t, Bytes("x"), found.Body)
	assert.Empty(t, rest)
	_, err = Next(b.Bytes()[:5], &q)
	assert.ErrorIs(t, err, io.ErrUnexpectedEOF, "half is nothing")

	known, err := hex.DecodeString("a3" + "646b657973" + "816162" + "63776879" + "00" + "654652455348" + "f5") // {"keys": ["b"], "why": 0, "FRESH": true}
	require.NoError(t, err)
	q = Lookup{}
	rest, err = Next(known, &q)
	require.NoError(t, err)
	assert.Equal(t, Lookup{Keys: []string{"b"}}, q, "names are exact")
	assert.Empty(t, rest)
	for name, bad := range map[string]string{"an indefinite length": "9f6161ff", "a number for keys": "a1646b65797301", "nested deeply": "a16178" + strings.Repeat("81", 20) + "00", "not UTF-8": "a1646b6579738161ff", "a million members announced": "ba00100000"} {
		raw, err := hex.DecodeString(bad)
		require.NoError(t, err)
		_, err = Next(raw, &Lookup{})
		assert.Error(t, err, name)
	}
	large := LookupAnswer{At: 3, Body: bytes.Repeat([]byte("x"), 3*step)}
	require.NoError(t, Append(&b, large))
	for name, source := range map[string]io.Reader{"at once": bytes.NewReader(b.Bytes()), "byte by byte": iotest.OneByteReader(bytes.NewReader(b.Bytes()))} {
		r := NewReader(source, -1)
		for range 3 {
			require.NoError(t, r.Next(&map[string]any{}), name)
		}
		var last LookupAnswer
		require.NoError(t, r.Next(&last), name)
		assert.Equal(t, large.Body, last.Body)
		assert.Equal(t, io.EOF, r.Next(&q), name)
	}
	r := NewReader(bytes.NewReader(b.Bytes()[:b.Len()-1]), int64(b.Len()))
	for range 3 {
		require.NoError(t, r.Next(&map[string]any{}))
	}
	assert.ErrorIs(t, r.Next(&q), io.ErrUnexpectedEOF)
}
