package store

import "unsafe"

// posting is an entry among those of a term: its place, and which of its terms this one is.
type posting struct{ place, slot uint32 }

const postingBytes = int64(unsafe.Sizeof(posting{}))

// postings are those of one term. Many have but one, which needs no memory of its own.
type postings struct {
	count uint32
	first posting
	more  *[]posting
}

func (p *postings) len() int { return int(p.count) }

func (p *postings) at(i int) *posting {
	if i == 0 {
		return &p.first
	}
	return &(*p.more)[i-1]
}

// push adds one; it returns by how many bytes they have grown.
func (p *postings) push(one posting) (grown int64) {
	if p.count++; p.count == 1 {
		p.first = one
		return 0
	}
	if p.more == nil {
		p.more = &[]posting{}
		grown = int64(unsafe.Sizeof(*p.more))
	}
	before := cap(*p.more)
	*p.more = append(*p.more, one)
	return grown + int64(cap(*p.more)-before)*postingBytes
}

// pop takes the last one away; it returns by how many bytes they have shrunk.
func (p *postings) pop() (shrunk int64) {
	if p.count--; p.count == 0 {
		return 0
	}
	rest := (*p.more)[:p.count-1]
	before := p.bytes()
	switch {
	case len(rest) == 0:
		p.more = nil
	case cap(rest) > 64 && len(rest) < cap(rest)/4:
		rest = append(make([]posting, 0, 2*len(rest)), rest...)
		fallthrough
	default:
		*p.more = rest
	}
	return before - p.bytes()
}

// bytes is how much memory they have of their own.
func (p *postings) bytes() int64 {
	if p.more == nil {
		return 0
	}
	return int64(unsafe.Sizeof(*p.more)) + int64(cap(*p.more))*postingBytes
}
