package changes

import (
	"fmt"
	"slices"
	"strings"

	"gerastic/internal/core/tags"
)

// Rule says which tags a change of a kind of thing makes stale.
type Rule struct {
	Kind          string
	Tags          []Template // filled from the old and from the new values
	OnlyIfChanged []string   // fields; an update that changed none of them does not count
	When          *Condition // nil: always
	Also          *FanOut    // nil: none
	Mode          tags.Mode
}

// FanOut asks a database what else a change concerns: a vessel changed, so the ports of
// all its sailings did.
type FanOut struct {
	Database string // connection string; "" for that of the source
	Query    string
	With     []string   // fields whose values are $1, $2, …
	Tags     []Template // filled from each row
}

// Query is a fan-out query with its values.
type Query struct {
	FanOut *FanOut
	With   []string
}

// Effect is what one rule makes of a change.
type Effect struct {
	Rule      int    // its place among the rules
	Fired     bool   // the rule counts for the change
	Why       string // why it does not, or what is uncertain
	Mode      tags.Mode
	Tags      []string
	TooMany   bool    // it names more tags than are wanted, and Tags lacks some
	Questions []Query // whose answers add to Tags
}

// MaxTags is how many tags a rule may make of one change: lists multiply.
const MaxTags = 100_000

// Effects applies the rules of the change's kind, each of which may make so many tags.
func Effects(all []*Rule, c *Change, most int) []Effect {
	var effects []Effect
	for i, r := range all {
		if r.Kind == c.Kind {
			e := r.effect(c, most)
			e.Rule = i
			effects = append(effects, e)
		}
	}
	return effects
}

func (r *Rule) effect(c *Change, most int) Effect {
	e := Effect{Mode: r.Mode}
	if r.unchanged(c) {
		e.Why = "none of " + strings.Join(r.OnlyIfChanged, ", ") + " changed"
		return e
	}
	if r.When != nil && !r.When.Met(c) {
		e.Why = "it is not so that " + r.When.String()
		return e
	}
	e.Fired = true
	named := map[string]bool{}
	// Old and new values alike: the group that lost the thing showed it until now.
	for i, side := range []Fields{c.Before, c.After} {
		other := []Fields{c.After, c.Before}[i]
		if side == nil {
			continue
		}
		for _, t := range r.Tags {
			filled, ok := t.Tags(side, other, most-len(e.Tags))
			if !ok {
				e.TooMany = true
				e.Why = fmt.Sprintf("its tag %s would be more than %d of one change: lists in it multiply", t, most)
				return e
			}
			for _, tag := range filled {
				if !named[tag] {
					named[tag] = true
					e.Tags = append(e.Tags, tag)
				}
			}
		}
		if r.Also != nil {
			if q, ok := r.Also.query(side); ok && !slices.ContainsFunc(e.Questions, func(other Query) bool { return slices.Equal(other.With, q.With) }) {
				e.Questions = append(e.Questions, q)
			}
		}
	}
	if c.Before == nil && !c.known(true) {
		e.Why = "the old values are not known, so that only the new ones name tags"
	}
	return e
}

// unchanged: an update whose fields of interest are certainly the same.
func (r *Rule) unchanged(c *Change) bool {
	if len(r.OnlyIfChanged) == 0 || c.Before == nil || c.After == nil {
		return false
	}
	return !slices.ContainsFunc(r.OnlyIfChanged, func(path string) bool { return !same(c.Before, c.After, path) })
}

func (f *FanOut) query(side Fields) (Query, bool) {
	q := Query{FanOut: f}
	for _, path := range f.With {
		v, _ := side.at(path)
		value, ok := text(v)
		if !ok {
			return q, false
		}
		q.With = append(q.With, value)
	}
	return q, true
}

// Fill makes the tags of one row of the answer.
func (f *FanOut) Fill(row Fields) (all []string) {
	for _, t := range f.Tags {
		filled, _ := t.Tags(row, nil, MaxTags) // the values of a row are no lists
		all = add(all, filled...)
	}
	return all
}

// CheckField says what is wrong with a field's name, or nil.
func CheckField(path string) error {
	if !isPath(path) {
		return fmt.Errorf("%q is not a field; write id or vessel.name", path)
	}
	return nil
}
