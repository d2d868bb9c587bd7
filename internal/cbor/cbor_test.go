package cbor

import (
	"bytes"
	"encoding/hex"
	"math"
	"strings"
	"testing"
	"testing/iotest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// TestExamplesOfTheStandard takes them from RFC 8949 appendix A.
func TestExamplesOfTheStandard(t *testing.T) {
	number := func(n int64) func([]byte) []byte { return func(b []byte) []byte { return AppendInt(b, n) } }
	for wire, row := range map[string]struct {
		write func([]byte) []byte // nil: only read
		read  func(*Reader) any
		value any
	}{
		"00":                 {number(0), func(r *Reader) any { return r.Number() }, 0.0},
		"17":                 {number(23), func(r *Reader) any { return r.Number() }, 23.0},
		"1818":               {number(24), func(r *Reader) any { return r.Number() }, 24.0},
		"1903e8":             {number(1000), func(r *Reader) any { return r.Number() }, 1000.0},
		"1a000f4240":         {number(1000000), func(r *Reader) any { return r.Number() }, 1e6},
		"1b000000e8d4a51000": {number(1000000000000), func(r *Reader) any { return r.Number() }, 1e12},
		"20":                 {number(-1), func(r *Reader) any { return r.Number() }, -1.0},
		"3903e7":             {number(-1000), func(r *Reader) any { return r.Number() }, -1000.0},
		"fb3ff199999999999a": {func(b []byte) []byte { return AppendFloat(b, 1.1) }, func(r *Reader) any { return r.Number() }, 1.1},
		"fa47c35000":         {nil, func(r *Reader) any { return r.Number() }, 100000.0},
		"f97bff":             {nil, func(r *Reader) any { return r.Number() }, 65504.0},
		"f90001":             {nil, func(r *Reader) any { return r.Number() }, 5.960464477539063e-8},
		"f9c400":             {nil, func(r *Reader) any { return r.Number() }, -4.0},
		"f97c00":             {nil, func(r *Reader) any { return r.Number() }, math.Inf(1)},
		"f4":                 {func(b []byte) []byte { return AppendBool(b, false) }, func(r *Reader) any { return r.Bool() }, false},
		"f5":                 {func(b []byte) []byte { return AppendBool(b, true) }, func(r *Reader) any { return r.Bool() }, true},
		"4401020304":         {func(b []byte) []byte { return AppendBytes(b, []byte{1, 2, 3, 4}) }, func(r *Reader) any { return r.Bytes() }, []byte{1, 2, 3, 4}},
		"6449455446":         {func(b []byte) []byte { return AppendText(b, "IETF") }, func(r *Reader) any { return r.Text() }, "IETF"},
		"64f0908591":         {func(b []byte) []byte { return AppendText(b, "\U00010151") }, func(r *Reader) any { return r.Text() }, "\U00010151"},
		"826161 6162":        {func(b []byte) []byte { return AppendTexts(b, []string{"a", "b"}) }, func(r *Reader) any { return r.Texts() }, []string{"a", "b"}},
		"a26161016162820203": {nil, func(r *Reader) any {
			sum := 0.0
			r.Fields(func(name string) bool {
				if name == "a" {
					sum += r.Number()
				}
				return name == "a" // the other is passed over
			})
			return sum
		}, 1.0},
	} {
		data, err := hex.DecodeString(strings.ReplaceAll(wire, " ", ""))
		require.NoError(t, err)
		if row.write != nil {
			assert.Equal(t, data, row.write(nil), wire)
		}
		r := NewReader(bytes.NewReader(data), 0)
		assert.Equal(t, row.value, row.read(r), wire)
		assert.NoError(t, r.Err())
		assert.False(t, r.More())
	}
}

// TestWhatIsWrittenIsRead, however it arrives, and what was read stays as it was.
func TestWhatIsWrittenIsRead(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		texts := rapid.SliceOfN(rapid.String(), 0, 30).Draw(t, "texts")
		bodies := rapid.SliceOfN(rapid.SliceOfN(rapid.Byte(), 0, 300), 0, 30).Draw(t, "bodies")
		var wire []byte
		wire = AppendTexts(wire, texts)
		for _, body := range bodies {
			wire = AppendBytes(wire, body)
		}
		r := NewReader(iotest.HalfReader(bytes.NewReader(wire)), int64(rapid.IntRange(0, len(wire)).Draw(t, "expected")))
		got := r.Texts()
		var read [][]byte
		for r.More() {
			read = append(read, r.Bytes())
		}
		require.NoError(t, r.Err())
		assert.Equal(t, len(texts), len(got))
		for i := range texts {
			assert.Equal(t, texts[i], got[i])
		}
		require.Len(t, read, len(bodies))
		for i := range bodies {
			assert.Equal(t, string(bodies[i]), string(read[i]))
		}
	})
}

// FuzzReader: no bytes make it panic, loop, or hold more than came.
func FuzzReader(f *testing.F) {
	for _, seed := range []string{"a1616180", "5bffffffffffffffff", "9a7fffffff", "bf6161ff", "c1c1c1c1", "8181818181818181818181818181818181818181"} {
		data, _ := hex.DecodeString(seed)
		f.Add(data)
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		r := NewReader(bytes.NewReader(data), 0)
		n := 0
		for r.More() {
			r.Skip()
			n++
		}
		assert.LessOrEqual(t, n, len(data))
		r = NewReader(bytes.NewReader(data), 0)
		r.Fields(func(string) bool { r.Number(); return true })
	})
}
