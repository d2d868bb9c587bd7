package policy

import (
	"fmt"
	"slices"
	"sort"
	"strings"

	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/lexer"
	"github.com/goccy/go-yaml/parser"
	"github.com/goccy/go-yaml/token"
)

// Problem is one finding in a policy, at its place.
type Problem struct {
	File    string `json:"file"`
	Line    int    `json:"line"`
	Column  int    `json:"column"`
	Message string `json:"message"`
}

// Error writes it the way editors and terminals link to it.
func (p Problem) Error() string {
	return fmt.Sprintf("%s:%d:%d: %s", p.File, p.Line, p.Column, p.Message)
}

// Problems are all findings in a policy, in its order.
type Problems []Problem

func (ps Problems) Error() string {
	lines := make([]string, len(ps))
	for i, p := range ps {
		lines[i] = p.Error()
	}
	return strings.Join(lines, "\n")
}

// document walks a YAML tree and gathers problems with their places. It goes on after
// a problem, so that one check shows them all.
type document struct {
	file     string
	outside  Outside
	problems Problems
	warnings Problems
	anchors  map[string]ast.Node

	shared shared
	warmed map[*Warm][]ast.Node // where the URLs stand that are kept warm
	whole  []ast.Node           // the routes with all that they take over
}

func (d *document) fail(n ast.Node, format string, args ...any) {
	p := d.at(n, format, args...)
	switch {
	case slices.Contains(d.problems, p): // of what several routes take over
	case len(d.problems) == maxProblems: // nobody reads more of them
	case len(d.problems) == maxProblems-1:
		d.problems = append(d.problems, d.at(n, "there are more mistakes than these %d; mend them first", maxProblems-1))
	default:
		d.problems = append(d.problems, p)
	}
}

func (d *document) warn(n ast.Node, format string, args ...any) {
	if w := d.at(n, format, args...); !slices.Contains(d.warnings, w) {
		d.warnings = append(d.warnings, w)
	}
}

func (d *document) at(n ast.Node, format string, args ...any) Problem {
	p := Problem{File: d.file, Line: 1, Column: 1, Message: fmt.Sprintf(format, args...)}
	if n != nil {
		if t := n.GetToken(); t != nil && t.Position != nil {
			p.Line, p.Column = t.Position.Line, t.Position.Column
		}
		// A mapping's own token is its first colon; people look for its first key.
		if m, ok := n.(*ast.MappingNode); ok && len(m.Values) > 0 {
			if t := m.Values[0].Key.GetToken(); t != nil && t.Position != nil {
				p.Line, p.Column = t.Position.Line, t.Position.Column
			}
		}
	}
	return p
}

// root parses the bytes into their one mapping; nil after a problem.
func (d *document) root(source []byte) ast.Node {
	if len(source) > maxSource {
		d.fail(nil, "the file has %d bytes; a policy has %d at most", len(source), maxSource)
		return nil
	}
	tokens := lexer.Tokenize(strings.TrimPrefix(string(source), "\ufeff")) // some editors begin files so
	if what, at := beyond(tokens); what != "" {
		d.problems = append(d.problems, Problem{File: d.file, Line: at.Position.Line, Column: at.Position.Column, Message: what + "; no policy needs that"})
		return nil
	}
	f, err := parser.Parse(tokens, 0)
	if err != nil {
		d.problems = append(d.problems, d.syntax(err))
		return nil
	}
	var docs []ast.Node
	for _, doc := range f.Docs {
		if doc.Body != nil {
			docs = append(docs, doc.Body)
		}
	}
	switch len(docs) {
	case 0:
		d.fail(nil, "the file is empty; a policy begins with version: 1")
		return nil
	case 1:
		return docs[0]
	}
	d.fail(docs[1], "a policy is one document; remove what follows the ---")
	return nil
}

func (d *document) syntax(err error) Problem {
	p := Problem{File: d.file, Line: 1, Column: 1, Message: err.Error()}
	type positioned interface {
		GetToken() *token.Token
		GetMessage() string
	}
	if at, ok := err.(positioned); ok {
		p.Message = "not readable as YAML: " + at.GetMessage()
		if t := at.GetToken(); t != nil && t.Position != nil {
			p.Line, p.Column = t.Position.Line, t.Position.Column
		}
	}
	return p
}

// field is a key that a mapping may have.
type field struct {
	name string
	read func(ast.Node)
	now  string // what the key is called by now; "" if it keeps its name
}

// renamed is a key that policies had before.
func renamed(old, now string) field { return field{name: old, now: now} }

// mapping reads each key of n with its field; where names n in messages.
func (d *document) mapping(n ast.Node, where string, fields ...field) {
	m, ok := d.resolve(n).(ast.MapNode)
	if !ok {
		d.fail(n, "%s must be a mapping of keys, not %s", where, kindOf(n))
		return
	}
	seen := map[string]bool{}
	for it := m.MapRange(); it.Next(); {
		keyNode := it.Key()
		name := fmt.Sprint(keyText(keyNode))
		if seen[name] {
			d.fail(keyNode, "%s stands twice in %s; keep one", name, where)
			continue
		}
		seen[name] = true
		d.readField(keyNode, it.Value(), name, where, fields)
	}
}

func (d *document) readField(keyNode, value ast.Node, name, where string, fields []field) {
	for _, f := range fields {
		if f.name != name {
			continue
		}
		if f.now != "" {
			d.fail(keyNode, "%s is called %s by now; rename the key in %s", name, f.now, where)
			return
		}
		value = d.resolve(value)
		if _, null := value.(*ast.NullNode); null || value == nil {
			d.fail(keyNode, "%s has no value; give it one or remove the line", name)
			return
		}
		f.read(value)
		return
	}
	var names []string
	for _, f := range fields {
		if f.now == "" {
			names = append(names, f.name)
		}
	}
	d.fail(keyNode, "unknown key %q in %s; %s", name, where, suggestion(name, names))
}

func keyText(n ast.Node) any {
	if s, ok := n.(ast.ScalarNode); ok {
		return s.GetValue()
	}
	return strings.TrimSpace(n.String())
}

// resolve follows anchors and aliases.
func (d *document) resolve(n ast.Node) ast.Node {
	switch v := n.(type) {
	case *ast.AnchorNode:
		if d.anchors == nil {
			d.anchors = map[string]ast.Node{}
		}
		d.anchors[v.Name.String()] = v.Value
		return d.resolve(v.Value)
	case *ast.AliasNode:
		if target, ok := d.anchors[v.Value.String()]; ok {
			return target
		}
	}
	return n
}

// list reads each element of n.
func (d *document) list(n ast.Node, where string, each func(ast.Node)) {
	s, ok := d.resolve(n).(*ast.SequenceNode)
	if !ok {
		d.fail(n, "%s must be a list, not %s; write [a, b]", where, kindOf(n))
		return
	}
	for _, v := range s.Values {
		each(d.resolve(v))
	}
}

// text reads a string; numbers and words such as "off" count as written.
func (d *document) text(n ast.Node, where string) (string, bool) {
	switch v := n.(type) {
	case *ast.StringNode:
		return v.Value, true
	case *ast.LiteralNode:
		return v.Value.Value, true
	case *ast.IntegerNode, *ast.FloatNode, *ast.BoolNode:
		return n.GetToken().Value, true
	}
	d.fail(n, "%s must be text, not %s", where, kindOf(n))
	return "", false
}

// choice reads one of a few words and returns its place among them, or -1.
func (d *document) choice(n ast.Node, where string, words ...string) int {
	s, ok := d.text(n, where)
	if !ok {
		return -1
	}
	for i, w := range words {
		if s == w {
			return i
		}
	}
	d.fail(n, "%s cannot be %q; %s", where, s, suggestion(s, words))
	return -1
}

func (d *document) boolean(n ast.Node, where string, into *bool) {
	if b, ok := n.(*ast.BoolNode); ok {
		*into = b.Value
		return
	}
	d.fail(n, "%s must be true or false, not %s", where, kindOf(n))
}

func (d *document) integer(n ast.Node, where string, most int, into *int) {
	if v, ok := n.(*ast.IntegerNode); ok {
		var i int
		if _, err := fmt.Sscan(v.GetToken().Value, &i); err == nil && i >= 1 && i <= most {
			*into = i
			return
		}
	}
	d.fail(n, "%s must be a whole number from 1 to %d", where, most)
}

// strings reads a list of texts, or one text alone.
func (d *document) strings(n ast.Node, where string, each func(ast.Node, string)) {
	if _, isList := n.(*ast.SequenceNode); !isList {
		if s, ok := d.text(n, where); ok {
			each(n, s)
		}
		return
	}
	d.list(n, where, func(v ast.Node) {
		if s, ok := d.text(v, where); ok {
			each(v, s)
		}
	})
}

// expand puts values from the environment for ${VAR}.
func (d *document) expand(n ast.Node, s string) string {
	var b strings.Builder
	for {
		before, rest, open := strings.Cut(s, "${")
		b.WriteString(before)
		if !open {
			return b.String()
		}
		name, after, closed := strings.Cut(rest, "}")
		if !closed {
			d.fail(n, "the ${ is not closed")
			return ""
		}
		value, ok := d.outside.Lookup(name)
		if !ok {
			d.fail(n, "the environment has no %s; set it before starting", name)
			return ""
		}
		b.WriteString(value)
		s = after
	}
}

func kindOf(n ast.Node) string {
	switch n.(type) {
	case ast.MapNode:
		return "a mapping"
	case *ast.SequenceNode:
		return "a list"
	case *ast.IntegerNode, *ast.FloatNode:
		return "a number"
	case *ast.BoolNode:
		return "true or false"
	case *ast.NullNode, nil:
		return "nothing"
	case *ast.InfinityNode, *ast.NanNode:
		return "a number without a value"
	case *ast.StringNode, *ast.LiteralNode:
		return "text"
	case *ast.TagNode:
		return "a value with a type of YAML's own (!…); remove that"
	}
	return "something that a policy does not have"
}

// suggestion names the nearest known word, or all of them.
func suggestion(word string, known []string) string {
	if best := Nearest(word, known); best != "" {
		return fmt.Sprintf("did you mean %q?", best)
	}
	sorted := append([]string(nil), known...)
	sort.Strings(sorted)
	return "expected one of " + strings.Join(sorted, ", ")
}

// editDistance counts insertions, deletions and replacements between two words.
func editDistance(a, b string) int {
	row := make([]int, len(b)+1)
	for j := range row {
		row[j] = j
	}
	for i := range len(a) {
		diagonal := row[0]
		row[0] = i + 1
		for j := range len(b) {
			cost := diagonal
			if a[i] != b[j] {
				cost++
			}
			diagonal = row[j+1]
			row[j+1] = min(cost, row[j]+1, row[j+1]+1)
		}
	}
	return row[len(b)]
}
