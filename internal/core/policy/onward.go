package policy

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"net/url"
	"strings"
	"text/template"
	"text/template/parse"
	"time"

	"github.com/goccy/go-yaml/ast"

	"gerastic/internal/core/httprules"
	"gerastic/internal/core/tags"
)

// Onward is a cache or service beyond the node that is told of purges.
type Onward struct {
	Name   string
	URL    *url.URL
	Method string
	Header httprules.Header
	Wants  Wanted
	body   *template.Template
	text   string // that it is made from
}

// Wanted is which purges are told onward.
type Wanted int

// Every purge, those that name tags, or those that name URLs.
const (
	EveryPurge Wanted = iota
	TagPurges
	URLPurges
)

var wantedNames = []string{"all", "tags", "urls"}

// String returns the word of a policy.
func (w Wanted) String() string { return wantedNames[w] }

// Of reports whether a purge is one of those.
func (w Wanted) Of(p *tags.Purge) bool {
	switch w {
	case TagPurges:
		return len(p.Tags)+len(p.Begins) > 0
	case URLPurges:
		return len(p.URLs) > 0 || p.One != nil
	}
	return true
}

// Told is a purge as a template sees it.
type Told struct {
	Sequence  uint64    `json:"sequence"`
	At        time.Time `json:"at"`
	Mode      string    `json:"mode"` // drop or stale
	Tags      []string  `json:"tags"`
	Together  bool      `json:"together"` // only what carries all of Tags
	TagsBegin []string  `json:"tags_begin"`
	URLs      []string  `json:"urls"` // https://HOST/PATH?QUERY, or /PATH?QUERY for every host
	Below     []string  `json:"below"`
	Routes    []string  `json:"routes"`
	Hosts     []string  `json:"hosts"`
	All       bool      `json:"all"`
}

// Telling is what a template sees of a purge.
func Telling(p *tags.Purge, at time.Time) Told {
	told := Told{Sequence: uint64(p.Sequence), At: at.UTC(), Mode: p.Mode.String(), Together: p.Together, All: p.All,
		Tags: append([]string{}, p.Tags...), TagsBegin: append([]string{}, p.Begins...), Routes: append([]string{}, p.Routes...), Hosts: append([]string{}, p.Hosts...), URLs: []string{}, Below: []string{}}
	for _, u := range p.URLs {
		text := u.Path
		if !u.AnyHost {
			text = "https://" + u.Host + u.Path
		}
		if !u.AnyQuery && u.Query != "" {
			text += "?" + u.Query
		}
		told.URLs = append(told.URLs, text)
	}
	for _, b := range p.Below {
		if b.AnyHost {
			told.Below = append(told.Below, b.Path)
		} else {
			told.Below = append(told.Below, "https://"+b.Host+b.Path)
		}
	}
	if p.One != nil && p.One.URL != "" {
		told.URLs = append(told.URLs, p.One.URL)
	}
	return told
}

// mostTold is how long a message may be.
const mostTold = 4 << 20

// errTooLong says that a purge makes too long a message.
var errTooLong = fmt.Errorf("the body would be longer than %d MiB", mostTold>>20)

// Body is what is sent of a purge.
func (o *Onward) Body(t Told) ([]byte, error) {
	switch {
	case o.body != nil:
	case o.Method == "GET" || o.Method == "HEAD":
		return nil, nil
	default:
		return asJSON(t)
	}
	out := &bounded{left: mostTold}
	err := o.body.Execute(out, t)
	return out.Bytes(), err
}

// bounded is a buffer that takes so much and no more.
type bounded struct {
	bytes.Buffer
	left int
}

func (b *bounded) Write(p []byte) (int, error) {
	if b.left -= len(p); b.left < 0 {
		return 0, errTooLong
	}
	return b.Buffer.Write(p)
}

// asJSON writes a value as JSON in one line.
func asJSON(v any) ([]byte, error) {
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	e.SetEscapeHTML(false)
	err := e.Encode(v)
	return bytes.TrimRight(b.Bytes(), "\n"), err
}

var onwardFunctions = template.FuncMap{
	"json": func(v any) (string, error) {
		text, err := asJSON(v)
		return string(text), err
	},
	"join": strings.Join,
}

func (d *document) onward(n ast.Node) *Onward {
	o := &Onward{Method: "POST", Header: httprules.Header{}}
	var body ast.Node
	before := len(d.problems)
	d.mapping(n, "an onward target",
		field{name: "name", read: func(n ast.Node) { o.Name = d.name(n, "a target's name") }},
		field{name: "url", read: func(n ast.Node) { o.URL = d.onwardURL(n) }},
		field{name: "method", read: func(n ast.Node) {
			s, _ := d.text(n, "method")
			if o.Method = s; !httprules.IsToken(s) || s != strings.ToUpper(s) || s == "CONNECT" {
				d.fail(n, "method: %q is no method that a purge is told with; POST is usual", s)
			}
		}},
		field{name: "headers", read: func(n ast.Node) { d.onwardHeaders(n, o) }},
		field{name: "body", read: func(n ast.Node) { body = n }},
		field{name: "when", read: func(n ast.Node) { o.Wants = Wanted(max(0, d.choice(n, "when", wantedNames...))) }},
	)
	switch {
	case len(d.problems) > before:
	case o.Name == "" || o.URL == nil:
		d.fail(n, "an onward target needs a name and a url: { name: outer, url: \"https://outer.example/purge\" }")
	case body != nil:
		d.onwardBody(body, o)
	}
	return o
}

func (d *document) onwardURL(n ast.Node) *url.URL {
	text := d.secret(n, "url")
	if unread(text) {
		return &url.URL{Scheme: "https", Opaque: text}
	}
	u, err := url.Parse(text)
	if err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" || u.Fragment != "" {
		d.fail(n, "url: this is no address to tell; write https://HOST/PATH") // it may be a secret
		return nil
	}
	return u
}

// ownHeaders are fields that sending itself sets.
var ownHeaders = map[string]bool{"Host": true, "Content-Length": true, "Transfer-Encoding": true, "Connection": true, "Upgrade": true, "Te": true, "Trailer": true, "Keep-Alive": true, "Expect": true}

func (d *document) onwardHeaders(n ast.Node, o *Onward) {
	m, ok := d.resolve(n).(ast.MapNode)
	if !ok {
		d.fail(n, "headers must be a mapping of names to values, not %s", kindOf(n))
		return
	}
	for it := m.MapRange(); it.Next(); {
		name, value := fmt.Sprint(keyText(it.Key())), d.resolve(it.Value())
		if !httprules.IsToken(name) || ownHeaders[httprules.CanonicalName(name)] {
			d.fail(it.Key(), "headers: %q is no field that can be set here", name)
			continue
		}
		text := d.secret(value, "headers."+name)
		if strings.ContainsFunc(text, func(r rune) bool { return r < ' ' && r != '\t' || r == 0x7f }) {
			d.fail(value, "headers.%s: a value is one line without control characters", name)
		}
		o.Header[httprules.CanonicalName(name)] = []string{text}
	}
}

// samples are purges that a body is tried with: one of each kind, and everything.
func samples() []Told {
	named := func(p tags.Purge) Told { return Telling(&p, time.Date(2026, 5, 17, 12, 0, 0, 0, time.UTC)) }
	return []Told{
		named(tags.Purge{Sequence: 1, Tags: []string{"sailing:7", `a "quoted" tag`}, URLs: []tags.URL{{Host: "ferries.example", Path: "/ports/tholm"}}}),
		named(tags.Purge{Sequence: 2, Mode: tags.Soften, Routes: []string{"sailing"}, Hosts: []string{"ferries.example"}, Below: []tags.Below{{AnyHost: true, Path: "/ports/"}}}),
		named(tags.Purge{Sequence: 3}), named(tags.Purge{Sequence: 3, All: true}),
	}
}

// onwardBody reads the template of what is sent, and tries it.
func (d *document) onwardBody(n ast.Node, o *Onward) {
	text, ok := d.text(n, "body")
	if !ok {
		return
	}
	t, err := template.New("body").Funcs(onwardFunctions).Option("missingkey=error").Parse(text)
	if err == nil {
		err = plain(t)
	}
	if err != nil {
		d.fail(n, "body: %s", templateSays(err))
		return
	}
	o.body, o.text = t, text
	wantsJSON := strings.Contains(o.Header.Get("Content-Type"), "json") || o.Header.Get("Content-Type") == "" && strings.HasPrefix(strings.TrimSpace(text), "{\"")
	var last []byte
	for _, sample := range samples() {
		sent, err := o.Body(sample)
		switch {
		case err != nil:
			d.fail(n, "body: %s", templateSays(err))
			return
		case wantsJSON && !json.Valid(sent):
			d.fail(n, "body: of a purge of the tags %s it makes %s, which is no JSON; write {{json .Tags}}, which quotes", asText(sample.Tags), sent)
			return
		case sample.All && bytes.Equal(sent, last):
			d.warn(n, "body: it says the same of a purge of everything as of one that names nothing, so that %s will not know; use .All", o.Name)
		}
		last = sent
	}
	if wantsJSON && o.Header.Get("Content-Type") == "" {
		o.Header["Content-Type"] = []string{"application/json"}
	}
}

func asText(v any) string {
	text, _ := asJSON(v)
	return string(text)
}

// templateSays is an error of a template without what only its programmer understands.
func templateSays(err error) string {
	return strings.TrimPrefix(err.Error(), "template: body:")
}

// deepest is how many loops may stand in each other.
const deepest = 2

// plain refuses templates that may run for long: those with loops over anything but the purge's own lists,
// with many loops in each other, and that call themselves.
func plain(t *template.Template) error {
	if len(t.Templates()) > 1 {
		return errors.New("it defines templates; one body is enough")
	}
	return plainList(t.Root, 0)
}

func plainList(list *parse.ListNode, depth int) error {
	if list == nil {
		return nil
	}
	for _, n := range list.Nodes {
		if err := plainNode(n, depth); err != nil {
			return err
		}
	}
	return nil
}

func plainNode(n parse.Node, depth int) error {
	var branch *parse.BranchNode
	switch v := n.(type) {
	case *parse.TemplateNode:
		return errors.New("it calls a template; one body is enough")
	case *parse.IfNode:
		branch = &v.BranchNode
	case *parse.WithNode:
		branch = &v.BranchNode
	case *parse.RangeNode:
		branch = &v.BranchNode
		if depth++; depth > deepest {
			return fmt.Errorf("more than %d loops stand in each other", deepest)
		}
		if !overList(v.Pipe) {
			return fmt.Errorf("%s: a loop goes over .Tags, .TagsBegin, .URLs, .Below, .Routes or .Hosts", v.Pipe)
		}
	default:
		return nil
	}
	return errors.Join(plainList(branch.List, depth), plainList(branch.ElseList, depth))
}

// overList reports whether a loop goes over a list of the purge: .Tags, or $.Tags.
func overList(p *parse.PipeNode) bool {
	if len(p.Cmds) != 1 || len(p.Cmds[0].Args) != 1 {
		return false
	}
	var name []string
	switch arg := p.Cmds[0].Args[0].(type) {
	case *parse.FieldNode:
		name = arg.Ident
	case *parse.VariableNode:
		if arg.Ident[0] == "$" {
			name = arg.Ident[1:]
		}
	}
	if len(name) != 1 {
		return false
	}
	switch name[0] {
	case "Tags", "TagsBegin", "URLs", "Below", "Routes", "Hosts":
		return true
	}
	return false
}
