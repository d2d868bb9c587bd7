package policy

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/goccy/go-yaml/ast"

	"gerastic.example/client/protocol"

	"gerastic/internal/core/changes"
	"gerastic/internal/core/tags"
)

// Changes is how changes of content are found, and which tags they make stale.
type Changes struct {
	Sources []*Source
	Rules   []*changes.Rule
}

// SourceKind is how a source tells of changes.
type SourceKind string

// Webhook: they are sent by call. Table: a query finds them by a cursor, on a schedule.
// Notify: the database announces them on a channel. Replication: they are read from the
// database's log as they commit.
const (
	Webhook     SourceKind = "webhook"
	Table       SourceKind = "table"
	Notify      SourceKind = "notify"
	Replication SourceKind = "replication"
)

// Source is where changes are found.
type Source struct {
	Name     string
	Kind     SourceKind
	Database string        // connection string; not for webhooks
	Within   time.Duration // its promise: what was committed longer ago has been purged

	Secret string // webhook: the key of the signatures; "" takes tokens only

	Every   time.Duration // table: between runs
	Overlap time.Duration // table: how long a row may be committed after the time that it carries
	Query   string        // table: kind, id, cursor, after [, before, op]; $1 is the cursor
	Deleted string        // table: the same for what was deleted, with before; "" if nothing tells

	Channel string // notify

	Tables      []string // replication: kinds are the tables' names
	Slot        string   // replication
	Publication string   // replication
	KeepAtMost  int64    // replication: bytes of log held back before it counts as failed
}

// Same reports whether two sources read the same in the same way.
func (s *Source) Same(o *Source) bool {
	a, b := *s, *o
	a.Tables, b.Tables = nil, nil
	return slices.Equal(s.Tables, o.Tables) && equalSources(a, b)
}

func equalSources(a, b Source) bool {
	return a.Name == b.Name && a.Kind == b.Kind && a.Database == b.Database && a.Within == b.Within && a.Secret == b.Secret && a.Every == b.Every &&
		a.Overlap == b.Overlap && a.Query == b.Query && a.Deleted == b.Deleted && a.Channel == b.Channel && a.Slot == b.Slot && a.Publication == b.Publication && a.KeepAtMost == b.KeepAtMost
}

// Source returns the source of a name, or nil.
func (c *Changes) Source(name string) *Source {
	for _, s := range c.Sources {
		if s.Name == name {
			return s
		}
	}
	return nil
}

// Defaults of what a source leaves out.
const (
	DefaultOverlap    = 30 * time.Second
	DefaultWithin     = time.Minute // for sources that follow
	DefaultKeepAtMost = 1 << 30
)

func (d *document) changes(n ast.Node, c *Changes) {
	var nodes []ast.Node
	d.mapping(n, "changes",
		field{name: "sources", read: func(n ast.Node) {
			d.list(n, "changes.sources", func(n ast.Node) { c.Sources, nodes = append(c.Sources, d.source(n)), append(nodes, n) })
		}},
		field{name: "rules", read: func(n ast.Node) {
			d.list(n, "changes.rules", func(n ast.Node) { c.Rules = append(c.Rules, d.changeRule(n)) })
		}},
	)
	unique(d, "source", nodes, c.Sources, func(s *Source) string { return s.Name })
	unique(d, "replication slot", nodes, c.Sources, func(s *Source) string { return s.Slot })
	for _, s := range c.Sources {
		for _, table := range s.Tables {
			if !slices.ContainsFunc(c.Rules, func(r *changes.Rule) bool { return r.Kind == KindOf(table) }) {
				d.warn(n, "no rule is for changes of %s, which source %s reads; they purge nothing", table, s.Name)
			}
		}
	}
}

// KindOf is the kind of the things in a table.
func KindOf(table string) string {
	return table[strings.LastIndexByte(table, '.')+1:]
}

var identifier = regexp.MustCompile(`^[a-z_][a-z0-9_]{0,62}$`)

func (d *document) source(n ast.Node) *Source {
	s := &Source{Overlap: DefaultOverlap, KeepAtMost: DefaultKeepAtMost}
	given := map[string]ast.Node{}
	before := len(d.problems)
	text := func(name string, into *string) field {
		return field{name: name, read: func(n ast.Node) {
			given[name] = n
			*into = strings.TrimRight(strings.TrimSpace(d.secret(n, name)), "; \n\t")
		}}
	}
	span := func(name string, into *time.Duration) field {
		return field{name: name, read: func(n ast.Node) {
			given[name] = n
			d.duration(n, name, into)
		}}
	}
	name := func(key string, into *string) field {
		return field{name: key, read: func(n ast.Node) {
			given[key] = n
			v, ok := d.text(n, key)
			if *into = v; ok && !identifier.MatchString(v) {
				d.fail(n, "%s %q: small letters, digits and _, 63 at most, not a digit first", key, v)
			}
		}}
	}
	d.mapping(n, "a source",
		field{name: "name", read: func(n ast.Node) { s.Name = d.name(n, "a source's name") }},
		field{name: "kind", read: func(n ast.Node) {
			kinds := []string{string(Table), string(Notify), string(Replication), string(Webhook)}
			if i := d.choice(n, "kind", kinds...); i >= 0 {
				s.Kind = SourceKind(kinds[i])
			}
		}},
		text("database", &s.Database), span("within", &s.Within), text("secret", &s.Secret),
		span("every", &s.Every), span("overlap", &s.Overlap), text("query", &s.Query), text("deleted", &s.Deleted),
		name("channel", &s.Channel), name("slot", &s.Slot), name("publication", &s.Publication),
		field{name: "tables", read: func(n ast.Node) {
			given["tables"] = n
			d.tables(n, s)
		}},
		field{name: "keep_at_most", read: func(n ast.Node) {
			given["keep_at_most"] = n
			d.size(n, "keep_at_most", &s.KeepAtMost)
		}},
	)
	if len(d.problems) > before {
		return s
	}
	if s.Name == "" || s.Kind == "" {
		d.fail(n, "a source needs a name and a kind: table, notify, replication or webhook")
		return s
	}
	d.sourceKeys(n, s, given)
	s.defaults()
	return s
}

func (d *document) tables(n ast.Node, s *Source) {
	d.strings(n, "tables", func(n ast.Node, table string) {
		for part := range strings.SplitSeq(table, ".") {
			if !identifier.MatchString(part) {
				d.fail(n, "tables: %q is not a table; write sailing or public.sailing", table)
				return
			}
		}
		s.Tables = append(s.Tables, table)
	})
}

// sourceKeys holds the keys of a source against its kind.
func (d *document) sourceKeys(n ast.Node, s *Source, given map[string]ast.Node) {
	kinds := map[SourceKind]struct{ must, may []string }{
		Webhook:     {nil, []string{"secret", "within"}},
		Table:       {[]string{"database", "every", "query"}, []string{"overlap", "deleted", "within"}},
		Notify:      {[]string{"database", "channel"}, []string{"within"}},
		Replication: {[]string{"database", "tables"}, []string{"slot", "publication", "keep_at_most", "within"}},
	}
	keys := kinds[s.Kind]
	for _, key := range keys.must {
		if given[key] == nil {
			d.fail(n, "source %s: a %s needs %s", s.Name, s.Kind, strings.Join(keys.must, ", "))
			return
		}
	}
	for key, at := range given {
		if !slices.Contains(keys.must, key) && !slices.Contains(keys.may, key) {
			d.fail(at, "source %s: %s is nothing that a %s has; it has %s", s.Name, key, s.Kind, strings.Join(append(keys.must, keys.may...), ", "))
		}
	}
	only := ""
	if s.Kind != Table {
		only = fmt.Sprintf("a source of kind %s reads PostgreSQL; of others, a table is read: kind: table", s.Kind)
	}
	d.database(given["database"], "database", s.Database, only)
	switch {
	case s.Kind == Table && s.Every < time.Second:
		d.fail(given["every"], "every must be at least 1s")
	case s.Kind == Table && !strings.Contains(s.Query, "$1"):
		d.fail(given["query"], "the query must hold $1, the cursor: … where updated_at > $1")
	case s.Deleted != "" && !strings.Contains(s.Deleted, "$1"):
		d.fail(given["deleted"], "the query must hold $1, the cursor: … where deleted_at > $1")
	case s.Kind == Webhook && given["secret"] != nil && len(s.Secret) < 16 && !unread(s.Secret):
		d.fail(given["secret"], "the secret must have at least 16 characters; openssl rand -hex 32 makes one")
	}
}

func (s *Source) defaults() {
	if s.Kind == Replication {
		plain := strings.NewReplacer("-", "_", ".", "_").Replace(strings.ToLower(s.Name))
		if s.Slot == "" {
			s.Slot = "gerastic_" + plain
		}
		if s.Publication == "" {
			s.Publication = "gerastic_" + plain
		}
	}
	if s.Within == 0 {
		s.Within = DefaultWithin
		if s.Kind == Table {
			s.Within = 2*s.Every + time.Minute
		}
	}
}

func (d *document) changeRule(n ast.Node) *changes.Rule {
	r := &changes.Rule{}
	before := len(d.problems)
	d.mapping(n, "a rule of changes",
		field{name: "kind", read: func(n ast.Node) { r.Kind, _ = d.text(n, "kind") }},
		field{name: "tags", read: func(n ast.Node) { r.Tags = d.changeTags(n, "tags") }},
		field{name: "only_if_changed", read: func(n ast.Node) { r.OnlyIfChanged = d.changeFields(n, "only_if_changed") }},
		field{name: "when", read: func(n ast.Node) {
			if text, ok := d.text(n, "when"); ok {
				c, err := changes.ParseCondition(text)
				if err != nil {
					d.fail(n, "when: %v", err)
				}
				r.When = c
			}
		}},
		field{name: "also", read: func(n ast.Node) { r.Also = d.fanOut(n) }},
		field{name: "mode", read: func(n ast.Node) {
			if d.choice(n, "mode", "drop", "stale") == 1 {
				r.Mode = tags.Soften
			}
		}},
	)
	if len(d.problems) == before && (r.Kind == "" || len(r.Tags) == 0 && r.Also == nil) {
		d.fail(n, "a rule of changes needs a kind, and tags or also: { kind: sailing, tags: [\"sailing:{id}\"] }")
	}
	return r
}

func (d *document) changeTags(n ast.Node, where string) (all []changes.Template) {
	d.strings(n, where, func(n ast.Node, text string) {
		t, err := changes.ParseTemplate(text)
		if err != nil {
			d.fail(n, "%s: %v", where, err)
		}
		if len(text) > protocol.MaxTag {
			d.fail(n, "%s: a tag has at most %d bytes", where, protocol.MaxTag)
		}
		all = append(all, t)
	})
	return all
}

func (d *document) changeFields(n ast.Node, where string) (all []string) {
	d.strings(n, where, func(n ast.Node, path string) {
		if err := changes.CheckField(path); err != nil {
			d.fail(n, "%s: %v", where, err)
		}
		all = append(all, path)
	})
	return all
}

func (d *document) fanOut(n ast.Node) *changes.FanOut {
	f := &changes.FanOut{}
	d.mapping(n, "also",
		field{name: "database", read: func(n ast.Node) {
			f.Database = d.secret(n, "also.database")
			d.database(n, "also.database", f.Database, "")
		}},
		field{name: "query", read: func(n ast.Node) { f.Query, _ = d.text(n, "also.query") }},
		field{name: "with", read: func(n ast.Node) { f.With = d.changeFields(n, "also.with") }},
		field{name: "tags", read: func(n ast.Node) { f.Tags = d.changeTags(n, "also.tags") }},
	)
	if f.Query == "" || len(f.Tags) == 0 {
		d.fail(n, "also needs a query, and the tags that each of its rows gives")
	}
	return f
}
