package client

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"html/template"
	"maps"
	"reflect"
	"regexp"
	"slices"
	"strings"
	"sync"
	"text/template/parse"
	"time"
)

// Templates returns functions with which a template wraps a block as a fragment:
//
//	{{fragment .Context "row" .Sailing (parts .Sailing.ID) (version .Sailing.Updated)
//	           (lifetime "1h") (tags (printf "sailing:%d" .Sailing.ID))}}
//	{{fragments .Context "row" .Sailings (parts "ID") (version "Updated") (lifetime "1h")}}
//
// executes the template "row" unless what it made is stored; for a list, in one round trip, where parts and
// version name members of each. The digest of the template's text, and of those within it, is part of the
// key, so that an edited block shows at once. The first argument is the
// request's context. The template gets an Inside: .Data is what was passed, and .Context what
// fragments within it must be given, so that they become part of it. Set is asked for the
// templates when a page is made, so that the functions can be there before them:
//
//	var pages *template.Template
//	functions := fragments.Templates(func() *template.Template { return pages })
//	pages = template.Must(template.New("").Funcs(functions).ParseFS(…))
func (s *Fragments) Templates(set func() *template.Template) template.FuncMap {
	t := &templates{fragments: s, set: set}
	return template.FuncMap{
		"fragment": t.fragment, "fragments": t.many,
		"parts":   func(parts ...any) FragmentOption { return func(f *Fragment) error { f.Parts = parts; return nil } },
		"version": func(v any) FragmentOption { return func(f *Fragment) error { f.Version = v; return nil } },
		"tags":    func(tags ...string) FragmentOption { return func(f *Fragment) error { f.Tags = tags; return nil } },
		"lifetime": func(text string) FragmentOption {
			return durationOption(text, func(f *Fragment, d time.Duration) { f.Lifetime = d })
		},
		"stale": func(text string) FragmentOption {
			return durationOption(text, func(f *Fragment, d time.Duration) { f.Stale = d })
		},
		"named": func(name string) FragmentOption { return func(f *Fragment) error { f.Name = name; return nil } },
	}
}

// Inside is what the template of a fragment gets.
type Inside struct {
	Context context.Context
	Data    any
}

// FragmentOption is what parts, version, tags, lifetime, stale and named make in a template.
type FragmentOption func(*Fragment) error

func durationOption(text string, set func(*Fragment, time.Duration)) FragmentOption {
	return func(f *Fragment) error {
		if text == "forever" {
			set(f, Forever)
			return nil
		}
		d, err := time.ParseDuration(text)
		if err != nil || d <= 0 {
			return errors.New(`a lifetime is written "10m", "1h30m" or "forever"`)
		}
		set(f, d)
		return nil
	}
}

// templates are blocks of a set of templates.
type templates struct {
	fragments *Fragments
	set       func() *template.Template

	mu      sync.Mutex // guards what follows
	of      *template.Template
	digests map[string]string // of a set's templates
}

// fragment is a block.
func (t *templates) fragment(ctx context.Context, name string, data any, options ...FragmentOption) (template.HTML, error) {
	f, err := t.described(name, options)
	if err != nil {
		return "", err
	}
	f.Parts = append(slices.Clone(f.Parts), t.digest(name))
	body, err := t.fragments.LoadOrFill(ctx, f, func(ctx context.Context) ([]byte, error) { return t.execute(ctx, name, data) })
	return template.HTML(body), err // the templates have escaped it
}

// many are blocks of a list.
func (t *templates) many(ctx context.Context, name string, list any, options ...FragmentOption) (template.HTML, error) {
	of, err := t.described(name, options)
	if err != nil {
		return "", err
	}
	items := reflect.ValueOf(list)
	if items.Kind() != reflect.Slice && items.Kind() != reflect.Array {
		return "", fmt.Errorf("the fragments %s are of a list, and this is a %T", name, list)
	}
	digest := t.digest(name)
	all := make([]Fragment, items.Len())
	for i := range all {
		if all[i], err = ofMember(of, items.Index(i).Interface()); err != nil {
			return "", fmt.Errorf("the fragments %s: %w", name, err)
		}
		all[i].Parts = append(all[i].Parts, digest)
	}
	bodies, err := t.fragments.LoadOrFillAll(ctx, all, func(ctx context.Context, i int) ([]byte, error) {
		return t.execute(ctx, name, items.Index(i).Interface())
	})
	return template.HTML(bytes.Join(bodies, nil)), err // the templates have escaped it
}

// described is a fragment as its options say.
func (t *templates) described(name string, options []FragmentOption) (f Fragment, err error) {
	f.Name = name
	for _, option := range options {
		if err := option(&f); err != nil {
			return f, fmt.Errorf("the fragment %s: %w", name, err)
		}
	}
	return f, nil
}

// ofMember is the fragment of one of a list: of names of members come their values, and {places} of tags
// are filled with them. A Keyed thing says its own.
func ofMember(f Fragment, thing any) (Fragment, error) {
	if keyed, says := thing.(Keyed); says {
		said := fragmentOf(keyed)
		f.Parts, f.Tags = append(said.Parts, f.Parts...), append(said.Tags, f.Tags...)
		f.Version, f.Lifetime = cmpAny(f.Version, said.Version), max(f.Lifetime, said.Lifetime)
		return f, nil
	}
	parts := make([]any, len(f.Parts), len(f.Parts)+1)
	for i, name := range f.Parts {
		value, err := member(thing, name)
		if err != nil {
			return f, err
		}
		parts[i] = value
	}
	f.Parts = parts
	if f.Version != nil {
		value, err := member(thing, f.Version)
		if err != nil {
			return f, err
		}
		f.Version = value
	}
	tags := make([]string, len(f.Tags))
	for i, tag := range f.Tags {
		filled, err := filledTag(tag, thing)
		if err != nil {
			return f, err
		}
		tags[i] = filled
	}
	f.Tags = tags
	return f, nil
}

func cmpAny(a, b any) any {
	if a != nil {
		return a
	}
	return b
}

// filledTag fills the {places} of a tag with a thing's members.
func filledTag(tag string, thing any) (string, error) {
	var b strings.Builder
	for {
		before, rest, open := strings.Cut(tag, "{")
		b.WriteString(before)
		name, after, closed := strings.Cut(rest, "}")
		if !open || !closed {
			return b.String(), nil
		}
		value, err := member(thing, name)
		if err != nil {
			return "", err
		}
		fmt.Fprint(&b, value)
		tag = after
	}
}

// member is the field, method or entry of a thing that a name says.
func member(thing, name any) (any, error) {
	text, isText := name.(string)
	if !isText {
		return nil, fmt.Errorf("parts and version name members of each of the list, and %v is no name", name)
	}
	value := reflect.ValueOf(thing)
	if method := value.MethodByName(text); method.IsValid() && method.Type().NumIn() == 0 && method.Type().NumOut() == 1 {
		return method.Call(nil)[0].Interface(), nil
	}
	value = reflect.Indirect(value)
	switch value.Kind() {
	case reflect.Struct:
		if field := value.FieldByName(text); field.IsValid() && field.CanInterface() {
			return field.Interface(), nil
		}
	case reflect.Map:
		if value.Type().Key().Kind() == reflect.String {
			if entry := value.MapIndex(reflect.ValueOf(text).Convert(value.Type().Key())); entry.IsValid() {
				return entry.Interface(), nil
			}
		}
	}
	return nil, fmt.Errorf("a %T has no member %s", thing, text)
}

// execute makes a block; an empty one is something, too.
func (t *templates) execute(ctx context.Context, name string, data any) ([]byte, error) {
	b := bytes.NewBuffer([]byte{})
	err := t.set().ExecuteTemplate(b, name, Inside{ctx, data})
	return b.Bytes(), err
}

// escaper is what html/template writes into a template when it is first executed.
var escaper = regexp.MustCompile(` \| _html_template_\w+`)

// digest is that of a template's text, with those within it.
func (t *templates) digest(name string) string {
	set := t.set()
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.of != set {
		t.of, t.digests = set, map[string]string{}
	}
	if t.digests[name] == "" {
		t.digests[name] = t.digestOf(name)
	}
	return t.digests[name]
}

func (t *templates) digestOf(name string) string {
	texts := map[string]string{}
	t.gather(name, texts)
	h := sha256.New()
	for _, name := range slices.Sorted(maps.Keys(texts)) {
		fmt.Fprintf(h, "%s\x00%s\x00", name, texts[name])
	}
	return hex.EncodeToString(h.Sum(nil)[:6])
}

// gather gathers the text of a template and of those within it, by name.
func (t *templates) gather(name string, texts map[string]string) {
	if _, known := texts[name]; known {
		return
	}
	found := t.set().Lookup(name)
	if found == nil || found.Tree == nil || found.Tree.Root == nil {
		return // executing it says so
	}
	texts[name] = escaper.ReplaceAllString(found.Tree.Root.String(), "")
	for _, within := range namesIn(found.Tree.Root, nil) {
		t.gather(within, texts)
	}
}

// namesIn are the templates that a node names: those that it executes, and blocks.
func namesIn(node parse.Node, names []string) []string {
	switch n := node.(type) {
	case *parse.ListNode:
		if n == nil {
			return names
		}
		for _, one := range n.Nodes {
			names = namesIn(one, names)
		}
	case *parse.TemplateNode:
		names = append(names, n.Name)
	case *parse.ActionNode:
		names = namesInPipe(n.Pipe, names)
	case *parse.IfNode:
		names = namesIn(n.ElseList, namesIn(n.List, namesInPipe(n.Pipe, names)))
	case *parse.RangeNode:
		names = namesIn(n.ElseList, namesIn(n.List, namesInPipe(n.Pipe, names)))
	case *parse.WithNode:
		names = namesIn(n.ElseList, namesIn(n.List, namesInPipe(n.Pipe, names)))
	}
	return names
}

func namesInPipe(pipe *parse.PipeNode, names []string) []string {
	if pipe == nil {
		return names
	}
	for _, command := range pipe.Cmds {
		if word, is := command.Args[0].(*parse.IdentifierNode); is && (word.Ident == "fragment" || word.Ident == "fragments") && len(command.Args) > 2 {
			if name, is := command.Args[2].(*parse.StringNode); is {
				names = append(names, name.Text)
			}
		}
	}
	return names
}
