package protocol

import (
	"bytes"
	"testing"
)

func hundred() []LookupAnswer {
	all := make([]LookupAnswer, 100)
	for i := range all {
		all[i] = LookupAnswer{At: i, State: "fresh", Age: 1.5, Left: 3600, Tags: []string{"vessel:3", "port:tholm"}, Body: make([]byte, 2048)}
	}
	return all
}

func BenchmarkEncode(b *testing.B) {
	all := hundred()
	var out bytes.Buffer
	b.ReportAllocs()
	for b.Loop() {
		out.Reset()
		for i := range all {
			_ = Append(&out, &all[i])
		}
	}
}

func BenchmarkDecode(b *testing.B) {
	var out bytes.Buffer
	for _, a := range hundred() {
		_ = Append(&out, a)
	}
	b.ReportAllocs()
	for b.Loop() {
		rest := out.Bytes()
		var err error
		for len(rest) > 0 {
			var a LookupAnswer
			if rest, err = Next(rest, &a); err != nil {
				b.Fatal(err)
			}
		}
	}
}
