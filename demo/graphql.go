package demo

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"net/http"
	"strconv"
	"strings"

	"github.com/vektah/gqlparser/v2"
	"github.com/vektah/gqlparser/v2/ast"
	"github.com/vektah/gqlparser/v2/validator/rules"

	"gerastic.example/client/aftercommit"
)

var graphQLSchema = gqlparser.MustLoadSchema(&ast.Source{Name: "ferries", Input: `
type Port { slug: ID! name: String! island: String! facilities: String! departures(limit: Int = 5): [Sailing!]! }
type Vessel { id: ID! name: String! capacity: Int! decks: Int! }
type Sailing { id: ID! from: String! to: String! vessel: String! departs: String! arrives: String! status: String! fare: Int! }
type Query { port(slug: ID!): Port ports: [Port!]! vessel(id: ID!): Vessel sailing(id: ID!): Sailing }
type Mutation { delaySailing(id: ID!, minutes: Int!): Sailing }
`})

type object = map[string]any

// graphQL is POST and GET /graphql. Failures of a field are answered with status 200
// and an errors member, as the trade does.
func (s *Site) graphQL(w http.ResponseWriter, r *http.Request) {
	var q struct {
		Query         string         `json:"query"`
		OperationName string         `json:"operationName"`
		Variables     map[string]any `json:"variables"`
	}
	if r.Method == http.MethodGet {
		q.Query, q.OperationName = r.URL.Query().Get("query"), r.URL.Query().Get("operationName")
		if v := r.URL.Query().Get("variables"); v != "" {
			_ = json.Unmarshal([]byte(v), &q.Variables)
		}
	} else if err := json.NewDecoder(r.Body).Decode(&q); err != nil {
		http.Error(w, `{"errors":[{"message":"the body is not JSON"}]}`, http.StatusBadRequest)
		return
	}
	s.cost(r.Context(), 200)
	document, problems := gqlparser.LoadQueryWithRules(graphQLSchema, q.Query, rules.NewDefaultRules())
	answer := object{}
	if len(problems) > 0 {
		answer["errors"] = problems
	} else if operation := document.Operations.ForName(q.OperationName); operation == nil {
		answer["errors"] = []object{{"message": "name the operation"}}
	} else if r.Method == http.MethodGet && operation.Operation != ast.Query {
		http.Error(w, `{"errors":[{"message":"GET is for queries"}]}`, http.StatusMethodNotAllowed)
		return
	} else {
		run := &graphQLRun{site: s, ctx: r.Context(), variables: q.Variables, groups: map[string]bool{}}
		answer["data"] = run.fields(operation.SelectionSet, run.root)
		if len(run.errors) > 0 {
			answer["errors"] = run.errors
		}
		groups := make([]string, 0, len(run.groups))
		for g := range run.groups {
			groups = append(groups, g)
		}
		if operation.Operation == ast.Query && len(groups) > 0 {
			w.Header().Set("Cache-Groups", groupList(groups))
		}
	}
	w.Header().Set("Content-Type", "application/json")
	_ = json.NewEncoder(w).Encode(answer)
}

// graphQLRun carries out one operation.
type graphQLRun struct {
	site      *Site
	ctx       context.Context
	variables map[string]any
	errors    []object
	groups    map[string]bool
}

// fields resolves a selection with get, which gives a field's value, an object's own
// getter, or a list of those.
func (g *graphQLRun) fields(set ast.SelectionSet, get func(*ast.Field) any) object {
	out := object{}
	for _, selection := range set {
		switch f := selection.(type) {
		case *ast.Field:
			out[f.Alias] = g.value(f, get(f))
		case *ast.InlineFragment:
			maps.Copy(out, g.fields(f.SelectionSet, get))
		case *ast.FragmentSpread:
			maps.Copy(out, g.fields(f.Definition.SelectionSet, get))
		}
	}
	return out
}

func (g *graphQLRun) value(f *ast.Field, v any) any {
	switch v := v.(type) {
	case func(*ast.Field) any:
		return g.fields(f.SelectionSet, v)
	case []func(*ast.Field) any:
		list := make([]object, len(v))
		for i := range v {
			list[i] = g.fields(f.SelectionSet, v[i])
		}
		return list
	case error:
		g.errors = append(g.errors, object{"message": v.Error(), "path": []string{f.Alias}})
		return nil
	}
	return v
}

func (g *graphQLRun) argument(f *ast.Field, name string) string {
	v := f.ArgumentMap(g.variables)[name]
	if v == nil {
		return ""
	}
	return fmt.Sprint(v)
}

func (g *graphQLRun) root(f *ast.Field) any {
	id, _ := strconv.Atoi(g.argument(f, "id"))
	content := g.site.Content
	switch f.Name {
	case "ports":
		ports, err := content.Ports(g.ctx)
		if err != nil {
			return err
		}
		var all []func(*ast.Field) any
		for _, p := range ports {
			all = append(all, g.port(p))
		}
		return all
	case "port":
		p, err := content.Port(g.ctx, g.argument(f, "slug"))
		if err != nil {
			return fmt.Errorf("there is no port %q", g.argument(f, "slug"))
		}
		return g.port(p)
	case "vessel":
		v, err := content.Vessel(g.ctx, id)
		if err != nil {
			return fmt.Errorf("there is no vessel %d", id)
		}
		g.groups[fmt.Sprintf("vessel:%d", v.ID)] = true
		return g.plain(object{"id": v.ID, "name": v.Name, "capacity": v.Capacity, "decks": v.Decks})
	case "sailing":
		s, err := content.Sailing(g.ctx, id)
		if err != nil {
			return fmt.Errorf("there is no sailing %d", id)
		}
		return g.sailing(s)
	case "delaySailing":
		minutes, _ := strconv.Atoi(g.argument(f, "minutes"))
		var after Sailing
		_, err := g.site.Outbox.Run(g.ctx, func(tx *aftercommit.Tx) error {
			before, now, err := content.edit(g.ctx, tx, id, Edit{Delay: &minutes})
			after = now
			tx.Purge(fmt.Sprintf("sailing %d delayed by %d minutes", id, minutes), staleTags(before, after)...)
			return err
		})
		if err != nil {
			return fmt.Errorf("sailing %d cannot be delayed", id)
		}
		return g.sailing(after)
	}
	return nil
}

func (g *graphQLRun) plain(o object) func(*ast.Field) any {
	return func(f *ast.Field) any { return o[f.Name] }
}

func (g *graphQLRun) port(p Port) func(*ast.Field) any {
	g.groups["port:"+p.Slug] = true
	known := object{"slug": p.Slug, "name": p.Name, "island": p.Island, "facilities": p.Facilities}
	return func(f *ast.Field) any {
		if f.Name != "departures" {
			return known[f.Name]
		}
		limit, _ := strconv.Atoi(strings.TrimSpace(g.argument(f, "limit")))
		next, err := g.site.Content.Next(g.ctx, p.Slug, g.site.Now(), min(max(limit, 1), 50))
		if err != nil {
			return err
		}
		g.groups["departures:"+p.Slug] = true
		var all []func(*ast.Field) any
		for _, s := range next {
			all = append(all, g.sailing(s))
		}
		return all
	}
}

func (g *graphQLRun) sailing(s Sailing) func(*ast.Field) any {
	g.groups[fmt.Sprintf("sailing:%d", s.ID)] = true
	return g.plain(object{"id": s.ID, "from": s.FromName, "to": s.ToName, "vessel": s.Vessel, "departs": s.Departs, "arrives": s.Arrives, "status": s.Status, "fare": s.Fare})
}
