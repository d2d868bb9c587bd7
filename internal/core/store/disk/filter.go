package disk

// filter says which terms may be in a segment, so that a purge reads the ends of few (Bloom, 1970): ten
// bits for each term, five of them set, and about one segment in a hundred is read in vain.
type filter []uint64

const (
	filterBits   = 10
	filterProbes = 5
)

// newFilter makes the filter of terms that are in order.
func newFilter(terms []posting) filter {
	distinct := 0
	for i := range terms {
		if i == 0 || terms[i].term != terms[i-1].term {
			distinct++
		}
	}
	f := make(filter, distinct*filterBits/64+1)
	for i := range terms {
		if i > 0 && terms[i].term == terms[i-1].term {
			continue
		}
		f.probe(terms[i].term, func(word, bit uint64) bool {
			f[word] |= 1 << bit
			return true
		})
	}
	return f
}

// has reports whether a term may be there.
func (f filter) has(term uint64) bool {
	there := true
	f.probe(term, func(word, bit uint64) bool {
		there = f[word]>>bit&1 == 1
		return there
	})
	return there
}

// probe visits the bits of a term, until visit returns false.
func (f filter) probe(term uint64, visit func(word, bit uint64) bool) {
	step := term>>32 | 1
	for range filterProbes {
		term += step * 0x9E3779B97F4A7C15
		at := term >> 7 % uint64(len(f)*64)
		if !visit(at/64, at%64) {
			return
		}
	}
}

func (f filter) bytes() int64 { return int64(len(f)) * 8 }
