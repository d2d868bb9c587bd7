package store

import (
	"encoding/binary"
	"strings"
)

// A key's beginning, up to the path, is the same for all pages of a route: it is a word.

// divide divides a key into its beginning and the rest.
func divide(key, path string) (beginning, rest string) {
	if at := strings.Index(key, path); at > 0 && path != "" {
		return key[:at], key[at:]
	}
	return "", key
}

// writeKey puts a key down.
func (w *writer) writeKey(key, path string) {
	beginning, rest := divide(key, path)
	w.key = ""
	w.text(beginning)
	w.number(uint64(len(rest)))
	w.bytes = append(w.bytes, rest...)
	w.key = rest
}

// skipKey passes over the key, the rest of which is what texts refer to.
func (r *reader) skipKey() (beginning string) {
	beginning = r.text()
	r.key = r.take(r.number())
	return beginning
}

// has reports whether a record has a key. Under the lock of its shard, or mu.
func (m *Memory) has(r *record, canonical []byte) bool {
	known := r.known()
	first, n := binary.Uvarint(known)
	known = known[n:]
	if first%textKinds == textWord {
		beginning := m.words.at(r.held()[first/textKinds]).text
		if len(canonical) < len(beginning) || string(canonical[:len(beginning)]) != beginning {
			return false
		}
		canonical = canonical[len(beginning):]
	} else {
		inline := known[:first/textKinds]
		if len(canonical) < len(inline) || string(canonical[:len(inline)]) != string(inline) {
			return false
		}
		canonical, known = canonical[len(inline):], known[len(inline):]
	}
	length, n := binary.Uvarint(known)
	return string(known[n:n+int(length)]) == string(canonical)
}
