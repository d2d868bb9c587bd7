package policy

import "strings"

// Differences are how the routes of a policy differ from those of another.
type Differences struct{ Fresh, Gone, Changed []string }

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
		case !r.sameFor(was):
			d.Changed = append(d.Changed, r.Name)
		}
		delete(old, r.Name)
	}
	for _, r := range before.Routes {
		if old[r.Name] != nil {
			d.Gone = append(d.Gone, r.Name)
		}
	}
	return d
}

// String says it in a line: "changed: people; new: files". "" if there are none.
func (d Differences) String() string {
	var parts []string
	for _, one := range []struct {
		what  string
		names []string
	}{{"changed", d.Changed}, {"new", d.Fresh}, {"gone", d.Gone}} {
		if len(one.names) > 0 {
			parts = append(parts, one.what+": "+strings.Join(one.names, ", "))
		}
	}
	return strings.Join(parts, "; ")
}
