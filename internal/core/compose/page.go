package compose

import (
	"bytes"
	"fmt"
	"strings"
)

// Page is a parsed skeleton. Immutable.
type Page struct {
	nodes    []node
	includes []Include
	size     int // of what was parsed besides the text
}

// Include is a mark of a skeleton that asks for something, and what it asks for.
type Include struct {
	Source   string // URL, perhaps with variables
	Other    string // what to ask for when that fails; "" if nothing
	Optional bool   // onerror="continue": it is left out when it fails
}

// node is a part of a skeleton: one of its fields is set.
type node struct {
	text    []byte // of the skeleton
	vars    bool   // variables in text are to be filled in
	include *Include
	try     *try
	choose  *choose
}

type try struct{ attempt, except []node }

type choose struct {
	whens     []when
	otherwise []node
}

type when struct {
	test expression
	then []node
}

// Limits of a skeleton.
const (
	// MaxMarks is how many marks a skeleton may have.
	MaxMarks = 1000
	// MaxNesting is how deep they may stand in one another.
	MaxNesting = 16
	// MaxAttribute is the longest attribute, in bytes.
	MaxAttribute = 4096
)

// Error is a mistake in a skeleton, with its place.
type Error struct {
	Line, Column int
	Text         string
}

func (e *Error) Error() string {
	return fmt.Sprintf("line %d, column %d: %s", e.Line, e.Column, e.Text)
}

// Parse reads a skeleton; nil without error if it has no marks. An error is an *Error. The
// page points into the body, which must not change.
func Parse(body []byte) (*Page, error) {
	if !bytes.Contains(body, []byte("<esi:")) && !bytes.Contains(body, []byte("<!--esi")) {
		return nil, nil
	}
	p := &parser{body: body, page: &Page{}, lastEnd: bytes.LastIndex(body, []byte("-->"))}
	nodes, err := p.nodes("", 0)
	if err != nil {
		return nil, err
	}
	p.page.nodes = nodes
	return p.page, nil
}

// Includes are all that the skeleton asks for, in whatever case.
func (p *Page) Includes() []Include { return p.includes }

// Size is about how many bytes the parsed skeleton takes besides its body.
func (p *Page) Size() int64 { return int64(p.size) }

type parser struct {
	body    []byte
	at      int
	marks   int
	comment int // inside how many <!--esi
	lastEnd int // where the last --> is
	page    *Page
}

func (p *parser) fail(at int, format string, args ...any) error {
	before := p.body[:min(at, len(p.body))]
	return &Error{Line: 1 + bytes.Count(before, []byte("\n")), Column: at - bytes.LastIndexByte(before, '\n'), Text: fmt.Sprintf(format, args...)}
}

// gathered are the nodes of an element, and where the text after the last of them begins.
type gathered struct {
	*parser
	all  []node
	vars bool // its text is full of variables
	from int
	bad  error // of the first variable that is none
}

// text takes what stands before a mark in.
func (g *gathered) text(to int) {
	if to <= g.from {
		return
	}
	g.all = append(g.all, node{text: g.body[g.from:to:to], vars: g.vars})
	g.page.size += 96
	if g.vars && g.bad == nil {
		if _, err := expand(string(g.body[g.from:to]), &Visitor{}, inText, parsing()); err != nil {
			g.bad = g.fail(g.from, "%v", err)
		}
	}
}

// nodes reads up to the end tag of an element, or (inside "") to the end of the body.
func (p *parser) nodes(inside string, depth int) ([]node, error) {
	g := &gathered{parser: p, vars: inside == "vars", from: p.at}
	begin := p.at
	if depth > MaxNesting {
		return nil, p.fail(p.at, "marks stand in one another more than %d deep", MaxNesting)
	}
	for {
		at := p.next()
		if at < 0 {
			if inside != "" {
				return nil, p.fail(begin, "<esi:%s> has no end tag", inside)
			}
			g.text(len(p.body))
			return g.all, nil
		}
		rest := p.body[at:]
		switch {
		case bytes.HasPrefix(rest, []byte("<!--esi")):
			if p.lastEnd < at+len("<!--esi") {
				return nil, p.fail(at, "<!--esi has no end -->")
			}
			if err := p.count(at); err != nil {
				return nil, err
			}
			g.text(at)
			p.comment++
			p.at = at + len("<!--esi")
		case bytes.HasPrefix(rest, []byte("-->")): // of the one before
			g.text(at)
			p.comment--
			p.at = at + len("-->")
		case bytes.HasPrefix(rest, []byte("</esi:")):
			name, end, err := p.endTag(at)
			if err != nil {
				return nil, err
			}
			if name != inside {
				return nil, p.fail(at, "</esi:%s> ends nothing that began here%s", name, insideOf(inside))
			}
			g.text(at)
			p.at = end
			return g.all, g.bad
		default:
			g.text(at)
			made, err := p.element(at, depth)
			if err != nil {
				return nil, err
			}
			g.all = append(g.all, made...)
		}
		g.from = p.at
	}
}

func insideOf(name string) string {
	if name == "" {
		return ""
	}
	return "; <esi:" + name + "> is open"
}

// next finds where the next mark begins.
func (p *parser) next() int {
	for i := p.at; i < len(p.body); i++ {
		j := bytes.IndexAny(p.body[i:], "<-")
		if j < 0 {
			return -1
		}
		i += j
		rest := p.body[i:]
		if bytes.HasPrefix(rest, []byte("<esi:")) || bytes.HasPrefix(rest, []byte("</esi:")) || bytes.HasPrefix(rest, []byte("<!--esi")) && endsName(rest[len("<!--esi"):]) ||
			p.comment > 0 && bytes.HasPrefix(rest, []byte("-->")) {
			return i
		}
	}
	return -1
}

// count counts one more mark.
func (p *parser) count(at int) error {
	if p.marks++; p.marks > MaxMarks {
		return p.fail(at, "the page has more than %d marks", MaxMarks)
	}
	return nil
}

// parsing is the budget for finding out whether a text is in order: all that it holds.
func parsing() *Budget { return NewBudget(func(int64) bool { return true }) }

// endsName: <!--esi is followed by white space or a mark, not by more of a word.
func endsName(rest []byte) bool {
	return len(rest) == 0 || isSpace(rest[0]) || rest[0] == '<' || rest[0] == '-'
}

func isSpace(c byte) bool { return c == ' ' || c == '\t' || c == '\n' || c == '\r' }

func (p *parser) endTag(at int) (name string, end int, err error) {
	close := bytes.IndexByte(p.body[at:], '>')
	if close < 0 {
		return "", 0, p.fail(at, "the end tag has no >")
	}
	return strings.TrimSpace(string(p.body[at+len("</esi:") : at+close])), at + close + 1, nil
}

// tag is a start tag.
type tag struct {
	name  string
	attrs map[string]string
	empty bool // ends in />
}

// element reads what begins at a start tag, and leaves at behind it.
func (p *parser) element(at, depth int) ([]node, error) {
	if err := p.count(at); err != nil {
		return nil, err
	}
	p.page.size += 128
	t, err := p.startTag(at)
	if err != nil {
		return nil, err
	}
	switch t.name {
	case "include":
		return p.include(at, t)
	case "comment", "remove":
		if t.empty {
			return nil, nil
		}
		return nil, p.drop(at, t.name)
	case "vars":
		if t.empty {
			return nil, nil
		}
		return p.nodes("vars", depth+1)
	case "try":
		if t.empty {
			return nil, p.fail(at, "<esi:try/> attempts nothing")
		}
		return p.try(at, depth)
	case "choose":
		if t.empty {
			return nil, nil
		}
		return p.choose(at, depth)
	case "when", "otherwise":
		return nil, p.fail(at, "<esi:%s> belongs into <esi:choose>", t.name)
	case "attempt", "except":
		return nil, p.fail(at, "<esi:%s> belongs into <esi:try>", t.name)
	}
	return nil, p.fail(at, "there is no <esi:%s>; there are include, try, choose, vars, remove and comment", t.name)
}

// startTag reads name and attributes.
func (p *parser) startTag(at int) (t tag, err error) {
	i := at + len("<esi:")
	start := i
	for i < len(p.body) && p.body[i] >= 'a' && p.body[i] <= 'z' {
		i++
	}
	t = tag{name: string(p.body[start:i]), attrs: map[string]string{}}
	for {
		for i < len(p.body) && isSpace(p.body[i]) {
			i++
		}
		switch {
		case i >= len(p.body):
			return t, p.fail(at, "<esi:%s has no >", t.name)
		case p.body[i] == '>':
			p.at = i + 1
			return t, nil
		case bytes.HasPrefix(p.body[i:], []byte("/>")):
			t.empty = true
			p.at = i + 2
			return t, nil
		}
		eq := bytes.IndexByte(p.body[i:min(len(p.body), i+65)], '=')
		if eq <= 0 {
			return t, p.fail(i, "<esi:%s: an attribute is written name=\"value\"", t.name)
		}
		name := strings.TrimSpace(string(p.body[i : i+eq]))
		i += eq + 1
		for i < len(p.body) && isSpace(p.body[i]) {
			i++
		}
		if i >= len(p.body) || p.body[i] != '"' && p.body[i] != '\'' {
			return t, p.fail(i, "<esi:%s: the value of %s stands in quotes", t.name, name)
		}
		end := bytes.IndexByte(p.body[i+1:min(len(p.body), i+2+MaxAttribute)], p.body[i])
		if end < 0 {
			return t, p.fail(i, "<esi:%s: the value of %s does not end, or is longer than %d bytes", t.name, name, MaxAttribute)
		}
		t.attrs[name] = entities.Replace(string(p.body[i+1 : i+1+end]))
		i += end + 2
	}
}

// entities are those of XML: a mark is one.
var entities = strings.NewReplacer("&amp;", "&", "&lt;", "<", "&gt;", ">", "&quot;", `"`, "&apos;", "'", "&#39;", "'", "&#34;", `"`)

func (p *parser) include(at int, t tag) ([]node, error) {
	if !t.empty {
		// Written as a pair: nothing may stand between.
		name, end, err := p.endTag(p.at)
		if err != nil || name != "include" || !bytes.HasPrefix(p.body[p.at:], []byte("</esi:")) {
			return nil, p.fail(at, `<esi:include src="…"/> ends in />`)
		}
		p.at = end
	}
	in := Include{Source: t.attrs["src"], Other: t.attrs["alt"]}
	if in.Source == "" {
		return nil, p.fail(at, "<esi:include> says no src")
	}
	switch t.attrs["onerror"] {
	case "":
	case "continue":
		in.Optional = true
	default:
		return nil, p.fail(at, `<esi:include onerror=%q>: it is "continue", or left out`, t.attrs["onerror"])
	}
	for _, text := range []string{in.Source, in.Other} {
		if _, err := expand(text, &Visitor{}, inURL, parsing()); err != nil {
			return nil, p.fail(at, "<esi:include>: %v", err)
		}
	}
	p.page.includes = append(p.page.includes, in)
	p.page.size += 128 + len(in.Source) + len(in.Other)
	return []node{{include: &in}}, nil
}

// drop passes over an element and all in it; what is in it need not be in order.
func (p *parser) drop(at int, name string) error {
	end := bytes.Index(p.body[p.at:], []byte("</esi:"+name+">"))
	if end < 0 {
		return p.fail(at, "<esi:%s> has no end tag", name)
	}
	p.at += end + len("</esi:"+name+">")
	return nil
}

// children reads the elements of try and choose, between which only white space may stand.
func (p *parser) children(at int, of string, child func(at int, t tag) error) error {
	for {
		for p.at < len(p.body) && isSpace(p.body[p.at]) {
			p.at++
		}
		rest := p.body[p.at:]
		switch {
		case bytes.HasPrefix(rest, []byte("</esi:")):
			name, end, err := p.endTag(p.at)
			if err == nil && name != of {
				err = p.fail(p.at, "</esi:%s> ends nothing that began here; <esi:%s> is open", name, of)
			}
			if err != nil {
				return err
			}
			p.at = end
			return nil
		case bytes.HasPrefix(rest, []byte("<esi:")):
			if err := p.count(p.at); err != nil {
				return err
			}
			begin := p.at
			t, err := p.startTag(begin)
			if err != nil {
				return err
			}
			if t.name == "comment" || t.name == "remove" {
				if !t.empty {
					err = p.drop(begin, t.name)
				}
			} else {
				err = child(begin, t)
			}
			if err != nil {
				return err
			}
		case len(rest) == 0:
			return p.fail(at, "<esi:%s> has no end tag", of)
		default:
			return p.fail(p.at, "only marks may stand directly in <esi:%s>", of)
		}
	}
}

func (p *parser) try(at, depth int) ([]node, error) {
	made := &try{}
	seen := map[string]bool{}
	err := p.children(at, "try", func(at int, t tag) (err error) {
		if t.name != "attempt" && t.name != "except" || seen[t.name] || t.empty {
			return p.fail(at, "<esi:try> holds one <esi:attempt> and one <esi:except>")
		}
		seen[t.name] = true
		if t.name == "attempt" {
			made.attempt, err = p.nodes("attempt", depth+1)
		} else {
			made.except, err = p.nodes("except", depth+1)
		}
		return err
	})
	if err == nil && (!seen["attempt"] || !seen["except"]) {
		err = p.fail(at, "<esi:try> holds one <esi:attempt> and one <esi:except>")
	}
	return []node{{try: made}}, err
}

func (p *parser) choose(at, depth int) ([]node, error) {
	made := &choose{}
	last := false
	err := p.children(at, "choose", func(at int, t tag) (err error) {
		switch {
		case t.empty || last || t.name != "when" && t.name != "otherwise":
			return p.fail(at, "<esi:choose> holds <esi:when test=\"…\">, as many as it likes, and at the end perhaps one <esi:otherwise>")
		case t.name == "otherwise":
			last = true
			made.otherwise, err = p.nodes("otherwise", depth+1)
			return err
		}
		test, err := parseExpression(t.attrs["test"])
		if err != nil {
			return p.fail(at, "<esi:when test=%q>: %v", t.attrs["test"], err)
		}
		then, err := p.nodes("when", depth+1)
		made.whens = append(made.whens, when{test, then})
		return err
	})
	if err == nil && len(made.whens) == 0 {
		err = p.fail(at, "<esi:choose> has no <esi:when>")
	}
	return []node{{choose: made}}, err
}
