package policy

import (
	"reflect"
	"strings"
)

// Differences are how the routes of a policy differ from those of another, and which other parts of it do.
type Differences struct{ Fresh, Gone, Changed, Also []string }

// DifferencesFrom compares a policy with the one before it.
func (p *Policy) DifferencesFrom(before *Policy) (d Differences) {
	old := map[string]*Route{}
	for _, r := range before.Routes {
		old[r.Name] = r
	}
	for _, r := range p.Routes {
		switch was := old[r.Name]; {
		case was == nil:
			d.Fresh = append(d.Fresh, r.Name)
		case !r.same(was):
			d.Changed = append(d.Changed, r.Name)
		}
		delete(old, r.Name)
	}
	for _, r := range before.Routes {
		if old[r.Name] != nil {
			d.Gone = append(d.Gone, r.Name)
		}
	}
	for _, part := range []struct {
		name string
		same bool
	}{
		{"origins", reflect.DeepEqual(p.Origins, before.Origins)}, {"writes", reflect.DeepEqual(p.Writes, before.Writes)},
		{"onward", reflect.DeepEqual(toldAs(p.Onward), toldAs(before.Onward))},
	} {
		if !part.same {
			d.Also = append(d.Also, part.name)
		}
	}
	return d
}

// same reports whether a route says what another one does, wherever it stands.
func (route *Route) same(other *Route) bool {
	a, b := *route, *other
	if (a.Group == nil) != (b.Group == nil) || a.Group != nil && (a.Group.id != b.Group.id || a.Group.Keep != b.Group.Keep) {
		return false
	}
	a.Index, a.Group, b.Index, b.Group = 0, nil, 0, nil
	return reflect.DeepEqual(a, b)
}

// toldAs are onward targets without what is compiled of them.
func toldAs(all []*Onward) (plain []Onward) {
	for _, o := range all {
		one := *o
		one.body = nil
		plain = append(plain, one)
	}
	return plain
}

// String says it in a line: "changed: people; new: files". "" if there are none.
func (d Differences) String() string {
	var parts []string
	for _, one := range []struct {
		what  string
		names []string
	}{{"changed", d.Changed}, {"new", d.Fresh}, {"gone", d.Gone}, {"also changed", d.Also}} {
		if len(one.names) > 0 {
			parts = append(parts, one.what+": "+strings.Join(one.names, ", "))
		}
	}
	return strings.Join(parts, "; ")
}
