package cli

import (
	stdbytes "bytes"
	"fmt"
	"io"
	"os"
	"unicode"
	"unicode/utf8"
)

// plain writes what a terminal would obey as what it is read like: names, reasons and URLs
// come from anybody. Lines and tabs are kept.
type plain struct {
	w       io.Writer
	instead func(r rune) string // of what a terminal would obey
	held    []byte              // the beginning of a character whose rest comes with the next write
	failed  *error              // the first that writing ended in
}

func (p *plain) Write(b []byte) (int, error) {
	given := len(b)
	b = append(p.held, b...)
	p.held = nil
	if i := incomplete(b); i < len(b) {
		p.held = append(p.held, b[i:]...)
		b = b[:i]
	}
	_, err := p.asIs(harmless(b, p.instead))
	return given, err
}

// asIs writes bytes as they are, and remembers if that fails.
func (p *plain) asIs(b []byte) (int, error) {
	n, err := p.w.Write(b)
	if p.failed != nil && *p.failed == nil {
		*p.failed = err
	}
	return n, err
}

// asTheyAre writes through a plain without changing anything.
type asTheyAre struct{ *plain }

func (w asTheyAre) Write(b []byte) (int, error) { return w.asIs(b) }

func inHex(r rune) string { return fmt.Sprintf(`\x%02x`, r) }

// inJSON is what JSON reads back.
func inJSON(r rune) string { return fmt.Sprintf(`\u%04x`, r) }

// plainJSON is the writer for JSON, in place of one for text.
func plainJSON(w io.Writer) io.Writer {
	if p, isPlain := w.(*plain); isPlain {
		return &plain{w: p.w, instead: inJSON, failed: p.failed}
	}
	return w
}

// incomplete is where a character begins that is not all there.
func incomplete(b []byte) int {
	for i := len(b) - 1; i >= 0 && i >= len(b)-utf8.UTFMax; i-- {
		if utf8.RuneStart(b[i]) {
			if !utf8.FullRune(b[i:]) {
				return i
			}
			break
		}
	}
	return len(b)
}

// harmless puts something else for what a terminal would obey.
func harmless(b []byte, instead func(r rune) string) []byte {
	obeyed := func(r rune) bool {
		return r != '\n' && r != '\t' && (unicode.IsControl(r) || unicode.Is(unicode.Bidi_Control, r))
	}
	if utf8.Valid(b) && stdbytes.IndexFunc(b, obeyed) < 0 {
		return b
	}
	var out []byte
	for len(b) > 0 {
		r, size := utf8.DecodeRune(b)
		switch {
		case r == utf8.RuneError && size == 1:
			out = append(out, instead(rune(b[0]))...)
		case obeyed(r):
			out = append(out, instead(r)...)
		default:
			out = append(out, b[:size]...)
		}
		b = b[size:]
	}
	return out
}

// raw is where bytes go that are wanted as they are: plain only on a terminal.
func (a *app) raw() io.Writer {
	p, isPlain := a.out.(*plain)
	if !isPlain {
		return a.out
	}
	if f, isFile := p.w.(*os.File); isFile {
		if info, err := f.Stat(); err == nil && info.Mode()&os.ModeCharDevice != 0 {
			return a.out
		}
	}
	return asTheyAre{p}
}
