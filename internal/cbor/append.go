// Package cbor writes and reads the part of CBOR (RFC 8949) that the calls for many
// fragments at once are made of: maps, arrays, texts, byte strings, integers, floats,
// booleans and null, one data item behind the other (a CBOR sequence, RFC 8742). What is read
// is not copied: byte strings point into what came in.
package cbor

import (
	"encoding/binary"
	"math"
)

// MediaType is that of a sequence of data items (RFC 8742).
const MediaType = "application/cbor-seq"

// The major types (RFC 8949 §3.1).
const (
	unsigned byte = iota << 5
	negative
	byteString
	text
	array
	mapping
	tagged
	simple
)

// Simple values and what follows floats (RFC 8949 §3.3).
const (
	falseValue = simple | 20
	trueValue  = simple | 21
	null       = simple | 22
	half       = simple | 25
	single     = simple | 26
	double     = simple | 27
)

// head writes a major type with its argument in the shortest form (RFC 8949 §4.2.1).
func head(b []byte, major byte, n uint64) []byte {
	switch {
	case n < 24:
		return append(b, major|byte(n))
	case n <= math.MaxUint8:
		return append(b, major|24, byte(n))
	case n <= math.MaxUint16:
		return binary.BigEndian.AppendUint16(append(b, major|25), uint16(n))
	case n <= math.MaxUint32:
		return binary.BigEndian.AppendUint32(append(b, major|26), uint32(n))
	}
	return binary.BigEndian.AppendUint64(append(b, major|27), n)
}

// AppendMap begins a map of n pairs.
func AppendMap(b []byte, n int) []byte { return head(b, mapping, uint64(n)) }

// AppendArray begins an array of n items.
func AppendArray(b []byte, n int) []byte { return head(b, array, uint64(n)) }

// AppendText writes a text, which must be UTF-8.
func AppendText(b []byte, s string) []byte { return append(head(b, text, uint64(len(s))), s...) }

// AppendBytes writes a byte string.
func AppendBytes(b, s []byte) []byte { return append(head(b, byteString, uint64(len(s))), s...) }

// AppendInt writes an integer.
func AppendInt(b []byte, n int64) []byte {
	if n < 0 {
		return head(b, negative, uint64(-(n + 1)))
	}
	return head(b, unsigned, uint64(n))
}

// AppendFloat writes a float of 64 bits.
func AppendFloat(b []byte, f float64) []byte {
	return binary.BigEndian.AppendUint64(append(b, double), math.Float64bits(f))
}

// AppendBool writes a boolean.
func AppendBool(b []byte, v bool) []byte {
	if v {
		return append(b, trueValue)
	}
	return append(b, falseValue)
}

// AppendTexts writes an array of texts.
func AppendTexts(b []byte, all []string) []byte {
	b = AppendArray(b, len(all))
	for _, s := range all {
		b = AppendText(b, s)
	}
	return b
}

// AppendBytesHead begins a byte string of n bytes, which follow.
func AppendBytesHead(b []byte, n int) []byte { return head(b, byteString, uint64(n)) }
