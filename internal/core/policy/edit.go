package policy

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/lexer"
	"github.com/goccy/go-yaml/parser"
)

// Edits change a policy's source where its routes stand, and leave every other line, and the comments,
// as they are. What they make is not checked.

// Setting is a place in a route, lifetime.fresh, and the value that it is to have, in YAML; "" takes it
// out.
type Setting struct {
	Place []string
	Value string
}

// ParseSetting reads lifetime.fresh=5m.
func ParseSetting(text string) (s Setting, err error) {
	place, value, ok := strings.Cut(text, "=")
	if !ok || place == "" || strings.HasPrefix(place, ".") || strings.HasSuffix(place, ".") || strings.Contains(place, "..") {
		return s, fmt.Errorf("%q is not a setting; write lifetime.fresh=5m, or lifetime.fresh= to take it out", text)
	}
	s = Setting{strings.Split(place, "."), strings.TrimSpace(value)}
	if s.Value == "" {
		return s, nil
	}
	f, err := parser.ParseBytes([]byte("x: "+s.Value), 0)
	if err != nil || strings.ContainsAny(s.Value, "\n\r") || len(f.Docs) != 1 {
		return s, fmt.Errorf("%s: %q is not a value in YAML; quote it, or write lists as [a, b] and mappings as { a: 1 }", place, s.Value)
	}
	if m := mappingOf(f.Docs[0].Body); m == nil || len(m.Values) != 1 || strings.Contains(s.Value, " #") {
		return s, fmt.Errorf("%s: %q is more than a value in YAML; quote it", place, s.Value)
	}
	return s, nil
}

// sourceLines are a policy's text, in lines.
type sourceLines struct {
	lines  []string
	routes []*ast.MappingNode
	names  []string
	flow   *ast.SequenceNode // where the routes stand in brackets; nil: they do not
	key    *ast.MappingValueNode
}

func readSource(source string) (*sourceLines, error) {
	f, err := parser.Parse(lexer.Tokenize(source), 0)
	if err != nil || len(f.Docs) == 0 {
		return nil, fmt.Errorf("the policy in force cannot be read as YAML: %w", err)
	}
	s := &sourceLines{lines: strings.Split(strings.TrimRight(source, "\n"), "\n")}
	if s.key = valueOf(mappingOf(f.Docs[0].Body), "routes"); s.key == nil {
		return s, nil
	}
	all, ok := s.key.Value.(*ast.SequenceNode)
	if !ok {
		return s, nil // routes: with nothing behind it
	}
	for _, n := range all.Values {
		m := mappingOf(n)
		if m == nil {
			return nil, fmt.Errorf("line %d: a route that is an alias, or no mapping, can only be changed by hand", n.GetToken().Position.Line)
		}
		s.routes = append(s.routes, m)
		name := ""
		if v := valueOf(m, "name"); v != nil {
			name = fmt.Sprint(keyText(v.Value))
		}
		s.names = append(s.names, name)
	}
	if all.IsFlowStyle {
		s.flow = all
		return s.unfold()
	}
	return s, nil
}

// unfold puts routes that stand in brackets on lines of their own.
func (s *sourceLines) unfold() (*sourceLines, error) {
	from, to := s.flow.Start.Position, s.flow.End.Position
	before := s.lines[from.Line-1][:byteColumn(s.lines[from.Line-1], from.Column)]
	after := s.lines[to.Line-1][byteColumn(s.lines[to.Line-1], to.Column)+1:]
	if rest := strings.TrimSpace(after); rest != "" && !strings.HasPrefix(rest, "#") || !strings.HasSuffix(strings.TrimSpace(before), ":") {
		return nil, fmt.Errorf("line %d: the routes stand in brackets among other things; put each on a line of its own, - name: …, and try again", from.Line)
	}
	fresh := []string{strings.TrimRight(before, " ") + after}
	for _, r := range s.routes {
		fresh = append(fresh, "  - "+flowOf(r))
	}
	lines := slices.Concat(s.lines[:from.Line-1], fresh, s.lines[to.Line:])
	return readSource(strings.Join(lines, "\n"))
}

// byteColumn is the index of a column, which counts characters from 1.
func byteColumn(line string, column int) int {
	at := 0
	for i := range line {
		if at++; at == column {
			return i
		}
	}
	return len(line)
}

func (s *sourceLines) text() string { return strings.Join(s.lines, "\n") + "\n" }

// place is the number of a route.
func (s *sourceLines) place(name string) (int, error) {
	i := slices.Index(s.names, name)
	if i < 0 {
		return 0, fmt.Errorf("there is no route %q; %s", name, suggestion(name, s.names))
	}
	return i, nil
}

func indentOf(line string) int { return len(line) - len(strings.TrimLeft(line, " ")) }

func isBare(line string) bool {
	text := strings.TrimSpace(line)
	return text == "" || strings.HasPrefix(text, "#")
}

// span is the lines of a route, from its dash up to the one behind its last.
func (s *sourceLines) span(i int) (from, to int) {
	from = s.routes[i].Values[0].Key.GetToken().Position.Line - 1
	for from > 0 && !strings.HasPrefix(strings.TrimSpace(s.lines[from]), "-") {
		from--
	}
	return from, s.block(from, indentOf(s.lines[from]))
}

// closes reports whether a line only ends brackets that began before.
func closes(line string) bool {
	text := strings.TrimSpace(line)
	return strings.HasPrefix(text, "}") || strings.HasPrefix(text, "]")
}

// AddRoute adds a route, given as the lines of its settings, before another one; "": as the last.
func AddRoute(source string, settings []string, before string) (string, error) {
	s, err := readSource(source)
	if err != nil {
		return "", err
	}
	at, indent := len(s.lines), 2
	switch {
	case before != "":
		i, err := s.place(before)
		if err != nil {
			return "", fmt.Errorf("--before: %w", err)
		}
		at, _ = s.span(i)
		indent = indentOf(s.lines[at])
		for at > 0 && isBare(s.lines[at-1]) && strings.TrimSpace(s.lines[at-1]) != "" { // its comment goes with it
			at--
		}
	case len(s.routes) > 0:
		from, to := s.span(len(s.routes) - 1)
		at, indent = to, indentOf(s.lines[from])
	case s.key == nil:
		s.lines = append(s.lines, "routes:")
		at++
	default:
		at = s.key.Key.GetToken().Position.Line
	}
	block := make([]string, len(settings))
	for i, line := range settings {
		mark := "  "
		if i == 0 {
			mark = "- "
		}
		block[i] = strings.Repeat(" ", indent) + mark + line
	}
	s.lines = slices.Insert(s.lines, at, block...)
	return s.text(), nil
}

// RouteSource is the source of one route, as it stands; "" if no route has the name.
func RouteSource(source, name string) (string, error) {
	s, err := readSource(source)
	if err != nil {
		return "", err
	}
	i := slices.Index(s.names, name)
	if i < 0 || name == "" {
		return "", nil
	}
	from, to := s.span(i)
	return strings.Join(s.lines[from:to], "\n") + "\n", nil
}

// RemoveRoute takes a route out, with the comment that stands right before it.
func RemoveRoute(source, name string) (string, error) {
	s, err := readSource(source)
	if err != nil {
		return "", err
	}
	i, err := s.place(name)
	if err != nil {
		return "", err
	}
	from, to := s.span(i)
	for from > 0 && isBare(s.lines[from-1]) && strings.TrimSpace(s.lines[from-1]) != "" && indentOf(s.lines[from-1]) == indentOf(s.lines[from]) {
		from--
	}
	if to < len(s.lines) && strings.TrimSpace(s.lines[to]) == "" && from > 0 && strings.TrimSpace(s.lines[from-1]) == "" {
		to++
	}
	s.lines = slices.Delete(s.lines, from, to)
	if len(s.routes) == 1 {
		line := s.key.Key.GetToken().Position.Line - 1
		s.lines[line] = strings.Replace(s.lines[line], "routes:", "routes: []", 1)
	}
	return s.text(), nil
}

// SetRoute changes settings of a route, one after the other.
func SetRoute(source, name string, settings []Setting) (string, error) {
	for _, one := range settings {
		s, err := readSource(source)
		if err != nil {
			return "", err
		}
		i, err := s.place(name)
		if err != nil {
			return "", err
		}
		if m := s.routes[i]; m.IsFlowStyle {
			from, to := s.span(i)
			line := s.lines[from]
			s.lines = slices.Replace(s.lines, from, to, line[:strings.Index(line, "-")+2]+setFlow(m, one.Place, one.Value)+commentOf(s.lines[to-1]))
		} else if err := s.set(m, one.Place, one.Value); err != nil {
			return "", err
		}
		source = s.text()
	}
	return source, nil
}

// set changes a place in a mapping that stands in lines.
func (s *sourceLines) set(m *ast.MappingNode, place []string, value string) error {
	v := valueOf(m, place[0])
	first := m.Values[0].Key.GetToken().Position
	if v == nil {
		if value == "" {
			return fmt.Errorf("there is no %s to take out", strings.Join(place, "."))
		}
		last := m.Values[len(m.Values)-1].Key.GetToken().Position.Line - 1
		s.lines = slices.Insert(s.lines, s.block(last, first.Column-1), strings.Repeat(" ", first.Column-1)+setFlow(nil, place, value))
		return nil
	}
	at := v.Key.GetToken().Position.Line - 1
	inner := mappingOf(v.Value)
	if len(place) > 1 && inner != nil && !inner.IsFlowStyle && inner.Values[0].Key.GetToken().Position.Line-1 > at {
		if value != "" || len(inner.Values) > 1 || len(place) > 2 {
			return s.set(inner, place[1:], value)
		}
		place = place[:1] // the last of it goes
	}
	end := s.block(at, first.Column-1)
	if len(place) == 1 && value == "" {
		return s.takeOut(at, end, v)
	}
	text := value
	if len(place) > 1 && inner != nil {
		text = setFlow(inner, place[1:], value)
	} else if len(place) > 1 {
		text = "{ " + setFlow(nil, place[1:], value) + " }"
	}
	line := s.lines[at]
	colon := strings.Index(line[byteColumn(line, v.Key.GetToken().Position.Column):], ":") + byteColumn(line, v.Key.GetToken().Position.Column)
	s.lines = slices.Replace(s.lines, at, end, line[:colon+1]+" "+text+commentOf(s.lines[end-1]))
	return nil
}

// takeOut removes a setting's lines; the dash of a route stays.
func (s *sourceLines) takeOut(at, end int, v *ast.MappingValueNode) error {
	dash := strings.HasPrefix(strings.TrimSpace(s.lines[at]), "-")
	if dash {
		if end >= len(s.lines) || isBare(s.lines[end]) {
			return fmt.Errorf("%v is all that stands in the route's first line; take it out by hand", keyText(v.Key))
		}
		line := s.lines[at]
		s.lines[end] = line[:strings.Index(line, "-")+1] + s.lines[end][strings.Index(line, "-")+1:]
	}
	s.lines = slices.Delete(s.lines, at, end)
	return nil
}

// block is the line behind the last of what begins in a line, at an indentation: what is indented more,
// and the brackets that end it.
func (s *sourceLines) block(at, indent int) (to int) {
	to = at + 1
	for next := to; next < len(s.lines); next++ {
		switch {
		case isBare(s.lines[next]):
		case indentOf(s.lines[next]) > indent || closes(s.lines[next]):
			to = next + 1
		default:
			return to
		}
	}
	return to
}

var trailing = regexp.MustCompile(`\s+#[^"'\]}]*$`)

// commentOf is the comment at the end of a line, with what is before it.
func commentOf(line string) string { return trailing.FindString(line) }

// setFlow is a mapping in brackets with a place changed; nil: a new one.
func setFlow(m *ast.MappingNode, place []string, value string) string {
	if m == nil && len(place) == 1 {
		return plainKey(place[0]) + ": " + value
	}
	if m == nil {
		inner := setFlow(nil, place[1:], value)
		return plainKey(place[0]) + ": { " + inner + " }"
	}
	var parts []string
	found := false
	for _, v := range m.Values {
		name := fmt.Sprint(keyText(v.Key))
		if name != place[0] {
			parts = append(parts, plainKey(name)+": "+flowOf(v.Value))
			continue
		}
		found = true
		inner := mappingOf(v.Value)
		switch {
		case len(place) > 1 && inner != nil:
			parts = append(parts, plainKey(name)+": "+setFlow(inner, place[1:], value))
		case len(place) > 1:
			parts = append(parts, setFlow(nil, place, value))
		case value != "":
			parts = append(parts, plainKey(name)+": "+value)
		}
	}
	if !found && value != "" {
		parts = append(parts, setFlow(nil, place, value))
	}
	return "{ " + strings.Join(parts, ", ") + " }"
}

var plainKeys = regexp.MustCompile(`^[A-Za-z0-9_][A-Za-z0-9_.-]*$`)

func plainKey(name string) string {
	if plainKeys.MatchString(name) {
		return name
	}
	return fmt.Sprintf("%q", name)
}
