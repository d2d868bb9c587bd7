package store

import (
	"hash/maphash"
	"strings"
	"sync"
)

// words are texts that many entries have: tags, routes, and what stands in headers again and
// again. A record holds the number of a word instead of its text.
//
// Texts may be read without a lock for as long as a record that is in the store holds their
// numbers; all else is under mu. Postings are guarded by Memory.mu.
type words struct {
	seed   maphash.Seed
	mu     sync.Mutex
	tables [wordTables]table
	all    numbered[word]
	bytes  int64 // of texts and tables
	lately [1 << 12]sighting
}

// sighting is a text that came lately, and how often; one that comes again and again is not
// forgotten for others that come once.
type sighting struct {
	tag   uint32 // of its hash
	count uint8
}

// word is one text.
type word struct {
	text   string
	uses   uint32
	posted postings // the entries that it finds, if it is a tag or a route
}

const (
	wordTables = 64
	// shortestWord and longestWord bound which texts are shared, tags and routes apart: shorter ones
	// gain nothing, and longer ones are seldom the same.
	shortestWord, longestWord = 8, 4096
)

func (w *words) at(number uint32) *word { return w.all.at(number) }

// take returns the number of a text for one more use, if it is worth a word: it is one already, or
// was seen before. Under mu.
func (w *words) take(text string) (number uint32, ok bool) {
	if len(text) < shortestWord || len(text) > longestWord {
		return 0, false
	}
	hash := maphash.String(w.seed, text)
	if number, ok = w.find(text, hash); ok {
		w.at(number).uses++
		return number, true
	}
	if !w.seen(hash) {
		return 0, false
	}
	return w.add(text, hash), true
}

// seen reports whether a text came before, lately. Under mu.
func (w *words) seen(hash uint64) bool {
	one := &w.lately[hash>>8%uint64(len(w.lately))]
	switch {
	case one.tag == uint32(hash>>32) && one.count > 0:
		one.count = min(one.count, 254) + 1
		return true
	case one.count > 0:
		one.count--
	default:
		*one = sighting{uint32(hash >> 32), 1}
	}
	return false
}

// isCommon reports whether two texts came together before, lately. Under mu.
func (w *words) isCommon(name, value string) bool {
	var h maphash.Hash
	h.SetSeed(w.seed)
	_, _ = h.WriteString(name)
	_, _ = h.WriteString(value)
	return w.seen(h.Sum64())
}

// make returns the number of a text that has to be a word, for one more use. Under mu.
func (w *words) make(text string) uint32 {
	hash := maphash.String(w.seed, text)
	if number, ok := w.find(text, hash); ok {
		w.at(number).uses++
		return number
	}
	return w.add(text, hash)
}

func (w *words) add(text string, hash uint64) uint32 {
	number := w.all.take()
	*w.at(number) = word{text: strings.Clone(text), uses: 1}
	w.bytes += allocated(len(text)) + w.tables[hash%wordTables].add(uint32(hash>>32), number)
	return number
}

// find looks a text up. Under mu.
func (w *words) find(text string, hash uint64) (number uint32, ok bool) {
	w.tables[hash%wordTables].all(uint32(hash>>32), func(n uint32) bool {
		number, ok = n, w.at(n).text == text
		return !ok
	})
	return number, ok
}

// known returns the number of a text that is a word.
func (w *words) known(text string) (number uint32, ok bool) {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.find(text, maphash.String(w.seed, text))
}

// hold is one more use of a text that is a word, until release.
func (w *words) hold(text string) (number uint32, ok bool) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if number, ok = w.find(text, maphash.String(w.seed, text)); ok {
		w.at(number).uses++
	}
	return number, ok
}

func (w *words) release(number uint32) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.drop(number)
}

// drop ends a use of a word. Under mu.
func (w *words) drop(number uint32) {
	one := w.at(number)
	if one.uses--; one.uses > 0 {
		return
	}
	hash := maphash.String(w.seed, one.text)
	w.tables[hash%wordTables].remove(uint32(hash>>32), number)
	w.bytes -= allocated(len(one.text))
	w.all.give(number)
}

// memory is how many bytes they take.
func (w *words) memory() int64 {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.bytes + w.all.bytes()
}

// each visits all words.
func (w *words) each(visit func(*word)) {
	w.mu.Lock()
	defer w.mu.Unlock()
	for number := range w.all.high {
		if one := w.at(number); one.uses > 0 {
			visit(one)
		}
	}
}
