package policy

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"github.com/goccy/go-yaml/ast"
)

// shared are the settings that routes take over: defaults by all, a shape by those that are like it.
// They are put together as YAML, before anything is read, so that each value keeps its place in the
// file.
type shared struct {
	defaults *ast.MappingNode
	shapes   map[string]*shape
	from     map[*ast.MappingValueNode]string // what was taken over, and from where
	budget   int
}

type shape struct {
	node  *ast.MappingNode
	at    ast.Node
	taken bool // while it is put together: it may not be like itself
	whole *ast.MappingNode
	used  bool
}

// mostShared bounds how many settings are taken over in all.
const mostShared = 200_000

// ownOnly are settings that a route must have for itself, or that have no meaning in shared ones.
var ownOnly = []string{"name"}

// alternatives are keys of which one replaces the others.
var alternatives = [][]string{{"only", "except"}, {"json", "graphql"}, {"claim", "ask"}}

func (d *document) readDefaults(n ast.Node) {
	d.shared.defaults = d.sharedSettings(n, "defaults")
	for _, v := range valuesOf(d.shared.defaults) {
		if fmt.Sprint(keyText(v.Key)) == "like" {
			d.fail(v.Key, "defaults are for every route, and cannot be like a shape; put the settings here, or name the shape in each route")
			d.shared.defaults = nil
			return
		}
	}
}

// readUnused says what is wrong with settings that no route takes over.
func (d *document) readUnused(routes int) {
	if routes == 0 && d.shared.defaults != nil {
		d.settings(d.shared.defaults, &Route{})
	}
	for _, name := range sortedKeys(d.shared.shapes) {
		if s := d.shared.shapes[name]; !s.used && s.whole != nil {
			d.warn(s.at, "no route is like the shape %s", name)
			d.settings(s.whole, &Route{})
		}
	}
}

func (d *document) readShapes(n ast.Node) {
	m, ok := d.resolve(n).(ast.MapNode)
	if !ok {
		d.fail(n, "shapes must be a mapping from names to settings, not %s; write listing: { lifetime: { fresh: 10m } }", kindOf(n))
		return
	}
	for it := m.MapRange(); it.Next(); {
		name := fmt.Sprint(keyText(it.Key()))
		if d.name(it.Key(), "a shape's name") == "" {
			continue
		}
		if d.shared.shapes[name] != nil {
			d.fail(it.Key(), "two shapes are named %s; names must differ", name)
			continue
		}
		if node := d.sharedSettings(it.Value(), "the shape "+name); node != nil {
			d.shared.shapes[name] = &shape{node: node, at: it.Key()}
		}
	}
	for _, name := range sortedKeys(d.shared.shapes) {
		d.shapeOf(name)
	}
}

// sharedSettings are a mapping of a route's settings; nil after a problem.
func (d *document) sharedSettings(n ast.Node, where string) *ast.MappingNode {
	m := mappingOf(d.resolve(n))
	if m == nil {
		d.fail(n, "%s must be a mapping of a route's settings, not %s", where, kindOf(n))
		return nil
	}
	for _, v := range m.Values {
		if name := fmt.Sprint(keyText(v.Key)); slices.Contains(ownOnly, name) {
			d.fail(v.Key, "%s cannot stand in %s; each route has its own", name, where)
			return nil
		}
	}
	return m
}

// shapeOf is a shape with those that it is like; nil after a problem.
func (d *document) shapeOf(name string) *ast.MappingNode {
	s := d.shared.shapes[name]
	if s.whole != nil || s.node == nil {
		return s.whole
	}
	if s.taken {
		d.fail(s.at, "the shape %s is like itself, through others; take one like out", name)
		s.node = nil
		return nil
	}
	s.taken = true
	s.whole = d.likened(s.node, nil, "shape "+name)
	return s.whole
}

// inherited is a route's mapping with all that it takes over.
func (d *document) inherited(n ast.Node) ast.Node {
	m := mappingOf(d.resolve(n))
	if m == nil || d.shared.defaults == nil && len(d.shared.shapes) == 0 && !hasKey(m, "like") {
		return n
	}
	return d.likened(m, d.shared.defaults, "")
}

// likened is a mapping on top of what it is like, and of base. own is what the mapping is called when
// others take it over; "": it is a route.
func (d *document) likened(m, base *ast.MappingNode, own string) *ast.MappingNode {
	var rest []*ast.MappingValueNode
	below := base
	label := "defaults"
	for _, v := range m.Values {
		if fmt.Sprint(keyText(v.Key)) != "like" {
			rest = append(rest, v)
			continue
		}
		d.strings(d.resolve(v.Value), "like", func(n ast.Node, name string) {
			if d.shared.shapes[name] == nil {
				d.fail(n, "there is no shape %q; %s", name, suggestion(name, sortedKeys(d.shared.shapes)))
				return
			}
			d.shared.shapes[name].used = true
			if whole := d.shapeOf(name); whole != nil {
				below = d.onto(below, whole, label, "shape "+name)
				label = ""
			}
		})
	}
	top := *m
	top.Values = rest
	return d.onto(below, &top, label, own)
}

// onto lays a mapping over another: maps are merged member by member, lists and plain values replace.
// The names say what each is, "" what is named already or the route itself.
func (d *document) onto(below, above *ast.MappingNode, belowIs, aboveIs string) *ast.MappingNode {
	merged := *above
	merged.Values = make([]*ast.MappingValueNode, 0, len(above.Values)+len(valuesOf(below)))
	seen := map[string]bool{}
	for _, v := range above.Values {
		name := fmt.Sprint(keyText(v.Key))
		under := valueOf(below, name)
		switch lower, upper := mappingOf(d.valueOf(under)), mappingOf(d.valueOf(v)); {
		case seen[name] || lower == nil || upper == nil: // also what stands twice, so that it is said
			merged.Values = append(merged.Values, d.named(v, aboveIs))
		default:
			both := *v
			both.Value = d.onto(lower, upper, cmp.Or(d.shared.from[under], belowIs), cmp.Or(d.shared.from[v], aboveIs))
			merged.Values = append(merged.Values, &both)
		}
		seen[name] = true
	}
	for _, v := range valuesOf(below) {
		if d.shared.budget++; d.shared.budget > mostShared {
			d.fail(above, "the routes take over more than %d settings; use fewer shapes, or fewer routes", mostShared)
			break
		}
		if !seen[fmt.Sprint(keyText(v.Key))] && !replacedBy(v, above) {
			merged.Values = append(merged.Values, d.named(v, belowIs))
		}
	}
	return &merged
}

// named notes where a setting is taken over from.
func (d *document) named(v *ast.MappingValueNode, from string) *ast.MappingValueNode {
	if from == "" || d.shared.from[v] != "" {
		return v
	}
	own := *v
	d.shared.from[&own] = from
	return &own
}

// replacedBy reports whether a mapping has an alternative to a key.
func replacedBy(v *ast.MappingValueNode, above *ast.MappingNode) bool {
	name := fmt.Sprint(keyText(v.Key))
	for _, group := range alternatives {
		if slices.Contains(group, name) && !hasKey(above, name) && slices.ContainsFunc(group, func(other string) bool { return hasKey(above, other) }) {
			return true
		}
	}
	return false
}

func mappingOf(n ast.Node) *ast.MappingNode {
	switch v := n.(type) {
	case *ast.MappingNode:
		return v
	case *ast.MappingValueNode: // one key alone
		return ast.Mapping(v.Start, false, v)
	}
	return nil
}

func valuesOf(m *ast.MappingNode) []*ast.MappingValueNode {
	if m == nil {
		return nil
	}
	return m.Values
}

// valueOf is what a mapping has under a key; nil: nothing.
func valueOf(m *ast.MappingNode, name string) *ast.MappingValueNode {
	for _, v := range valuesOf(m) {
		if fmt.Sprint(keyText(v.Key)) == name {
			return v
		}
	}
	return nil
}

func (d *document) valueOf(v *ast.MappingValueNode) ast.Node {
	if v == nil {
		return nil
	}
	return d.resolve(v.Value)
}

func hasKey(m *ast.MappingNode, name string) bool { return valueOf(m, name) != nil }

func sortedKeys[T any](m map[string]T) []string {
	names := make([]string, 0, len(m))
	for name := range m {
		names = append(names, name)
	}
	slices.Sort(names)
	return names
}

// Full writes each route of a policy with all that it takes over, and says of each setting where it is
// from.
func (o Outside) Full(name string, source []byte) (string, error) {
	if _, err := o.Parse(name, source); err != nil {
		return "", err
	}
	d := o.document(name)
	p := &Policy{}
	d.policy(d.root(source), p)
	var b strings.Builder
	b.WriteString("routes:\n")
	for _, n := range d.whole {
		d.print(&b, n, 4, "  - ")
	}
	return b.String(), nil
}

// print writes a mapping in lines, each setting with its source.
func (d *document) print(b *strings.Builder, n ast.Node, indent int, begin string) {
	for _, v := range valuesOf(mappingOf(d.resolve(n))) {
		if begin == "" {
			begin = strings.Repeat(" ", indent)
		}
		b.WriteString(begin + fmt.Sprint(keyText(v.Key)) + ":")
		begin = ""
		from := d.shared.from[v]
		if inner := mappingOf(d.resolve(v.Value)); inner != nil && len(inner.Values) > 0 {
			b.WriteString("\n")
			for i, under := range inner.Values {
				if from != "" && d.shared.from[under] == "" {
					inner.Values[i] = d.named(under, from)
				}
			}
			d.print(b, inner, indent+2, "")
			continue
		}
		b.WriteString(" " + flowOf(d.resolve(v.Value)))
		if from != "" {
			fmt.Fprintf(b, "  # %s, line %d", from, d.at(v.Key, "").Line)
		}
		b.WriteString("\n")
	}
}

// flowOf is a value in one line.
func flowOf(n ast.Node) string {
	if s, ok := n.(*ast.SequenceNode); ok {
		all := make([]string, len(s.Values))
		for i, v := range s.Values {
			all[i] = flowOf(v)
		}
		return "[" + strings.Join(all, ", ") + "]"
	}
	if m := mappingOf(n); m != nil {
		all := make([]string, len(m.Values))
		for i, v := range m.Values {
			all[i] = fmt.Sprint(keyText(v.Key)) + ": " + flowOf(v.Value)
		}
		return "{ " + strings.Join(all, ", ") + " }"
	}
	if l, ok := n.(*ast.LiteralNode); ok {
		return fmt.Sprintf("%q", l.Value.Value)
	}
	return strings.TrimSpace(n.String())
}
