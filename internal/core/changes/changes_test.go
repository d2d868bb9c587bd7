package changes

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"gerastic/internal/core/tags"
)

func fields(t require.TestingT, text string) Fields {
	f, err := ParseFields([]byte(text))
	require.NoError(t, err, text)
	return f
}

func TestConditions(t *testing.T) {
	moved := &Change{Kind: "sailing", Op: Update,
		Before: Fields{"status": "on time", "port": "tholm", "none": nil}, After: fields(t, `{"status":"cancelled","fare":450,"port":"saltern","ship":{"name":"Brackwing"},"booked":true,"none":null,"big":9007199254740993}`)}
	created := &Change{Op: Create, After: Fields{"status": "on time"}}
	unknown := &Change{Op: Unknown, After: Fields{"status": "on time"}}
	for _, c := range []struct {
		condition string
		change    *Change
		want      bool
	}{
		{"after.status = 'cancelled'", moved, true},
		{"after.status != 'cancelled'", moved, false},
		{"after.status = 'cancelled' and before.status != 'cancelled'", moved, true},
		{"before.status = 'cancelled' or op = 'update'", moved, true},
		{"not (after.fare > 400 and after.fare < 500)", moved, false},
		{"after.fare >= 450 and after.fare <= 450.0 and after.fare = 4.5e2", moved, true},
		{"after.big = 9007199254740992", moved, false},
		{"after.ship.name = 'Brackwing'", moved, true},
		{"after.ship = 'Brackwing'", moved, false},
		{"after.booked = true", moved, true},
		{"after.booked = 'true'", moved, false},
		{"after.none = null", moved, true},
		{"after.none < 1 or after.none >= 1", moved, false},
		{"before.port = after.port", moved, false},
		{"after.status = 'it''s'", moved, false},
		{"op = 'create' and before.status = null", created, true},
		{"before.status = 'on time'", created, false},
		{"after.status = 'on time' or after.status = 'delayed' and op = 'delete'", created, true},
		{"(after.status = 'on time' or after.status = 'delayed') and op = 'delete'", created, false},
		// What nobody knows may be so.
		{"before.status = 'on time'", unknown, true},
		{"before.status != 'on time'", unknown, true},
		{"not before.status = 'on time'", unknown, true},
		{"op = 'delete'", unknown, true},
		{"before.status = 'on time' and after.status = 'delayed'", unknown, false},
		{"after.nothing = 1", moved, true},
		{"after.status.deeper = 1", moved, true},
	} {
		parsed, err := ParseCondition(c.condition)
		require.NoError(t, err, c.condition)
		assert.Equal(t, c.want, parsed.Met(c.change), c.condition)
		assert.Equal(t, c.condition, parsed.String())
	}
	for condition, says := range map[string]string{
		"":                                "a field or a value is expected at the end",
		"status = 'x'":                    "before.FIELD, after.FIELD, op",
		"after.status == 'x'":             "where it says =",
		"after.status = 'x":               "is not closed",
		"after.status = 'x' also":         "and, or, or the end",
		"after.status":                    "=, !=, <",
		"(after.a = 1":                    "a closing parenthesis is expected at the end",
		"after.a = 1 & after.b = 2":       `"&" does not belong here`,
		"after.a like 'x%'":               "=, !=, <",
		"after. = 1":                      "before.FIELD",
		"after.a = 0x10":                  "before.FIELD",
		strings.Repeat("(", 60):           "nested deeper",
		strings.Repeat("not ", 60) + "op": "nested deeper",
	} {
		_, err := ParseCondition(condition)
		assert.ErrorContains(t, err, says, condition)
	}
}

func FuzzCondition(f *testing.F) {
	f.Add("after.a = 'x' and not (before.b <= 1.5 or op != null)")
	c := &Change{Op: Update, After: Fields{"a": "x"}}
	f.Fuzz(func(t *testing.T, text string) {
		if parsed, err := ParseCondition(text); err == nil {
			again, err := ParseCondition("not (" + text + ")")
			if err == nil && !parsed.Met(c) {
				assert.True(t, again.Met(c), "a condition and its inverse cannot both fail")
			}
		}
	})
}

func rule(t require.TestingT, templates ...string) *Rule {
	r := &Rule{Kind: "sailing"}
	for _, text := range templates {
		parsed, err := ParseTemplate(text)
		require.NoError(t, err)
		r.Tags = append(r.Tags, parsed)
	}
	return r
}

func TestRules(t *testing.T) {
	both := rule(t, "sailing:{id}", "port:{from}")
	moved := &Change{Kind: "sailing", Op: Update, Before: fields(t, `{"id":7,"from":"tholm","note":null}`), After: fields(t, `{"id":7,"from":"saltern","note":"x"}`)}
	when := func(r Rule, text string) *Rule {
		c, err := ParseCondition(text)
		require.NoError(t, err)
		r.When = c
		return &r
	}
	onlyIf := func(r Rule, paths ...string) *Rule {
		r.OnlyIfChanged = paths
		return &r
	}
	for _, c := range []struct {
		name   string
		rule   *Rule
		change *Change
		want   []string
	}{
		{"old and new values alike, each tag once", both, moved, []string{"sailing:7", "port:tholm", "port:saltern"}},
		{"a create has new values only", both, &Change{Kind: "sailing", Op: Create, After: moved.After}, []string{"sailing:7", "port:saltern"}},
		{"a delete has old ones only", both, &Change{Kind: "sailing", Op: Delete, Before: moved.Before}, []string{"sailing:7", "port:tholm"}},
		{"a missing value makes no tag", both, &Change{Kind: "sailing", Op: Create, After: Fields{"id": "9", "from": nil}}, []string{"sailing:9"}},
		{"a list makes a tag for each", rule(t, "{kind}/{ports}!"), &Change{Kind: "sailing", Op: Create, After: fields(t, `{"kind":"x","ports":["a","b",3]}`)}, []string{"x/a!", "x/b!", "x/3!"}},
		{"of a list, what came or went", rule(t, "t:{id}:{topics:changed}"), &Change{Kind: "sailing", Op: Update, Before: fields(t, `{"id":1,"topics":["a","b"]}`), After: fields(t, `{"id":1,"topics":["b","c"]}`)}, []string{"t:1:a", "t:1:c"}},
		{"all of a list, if the old one is not known", rule(t, "t:{topics:changed}"), &Change{Kind: "sailing", Op: Update, Before: fields(t, `{"id":1}`), After: fields(t, `{"topics":["b","c"]}`)}, []string{"t:b", "t:c"}},
		{"all of a list that went", rule(t, "t:{topics:changed}"), &Change{Kind: "sailing", Op: Delete, Before: fields(t, `{"topics":["b"]}`)}, []string{"t:b"}},
		{"of a list that stays, nothing", rule(t, "t:{topics:changed}", "s:{id}"), &Change{Kind: "sailing", Op: Update, Before: fields(t, `{"id":1,"topics":["a","b"]}`), After: fields(t, `{"id":1,"topics":["b","a"]}`)}, []string{"s:1"}},
		{"a tag that no entry can carry is left out", rule(t, "{id}"), &Change{Kind: "sailing", Op: Create, After: Fields{"id": strings.Repeat("x", 1025)}}, nil},
		{"another kind", both, &Change{Kind: "vessel", Op: Create, After: moved.After}, nil},
		{"none of the fields changed", onlyIf(*both, "id"), moved, nil},
		{"one of the fields changed", onlyIf(*both, "id", "note"), moved, []string{"sailing:7", "port:tholm", "port:saltern"}},
		{"whether a field changed is not known", onlyIf(*both, "fare"), moved, []string{"sailing:7", "port:tholm", "port:saltern"}},
		{"a create counts whatever changed", onlyIf(*both, "id"), &Change{Kind: "sailing", Op: Create, After: moved.After}, []string{"sailing:7", "port:saltern"}},
		{"a condition that holds", when(*both, "after.from = 'saltern'"), moved, []string{"sailing:7", "port:tholm", "port:saltern"}},
		{"one that does not", when(*both, "after.from = 'tholm'"), moved, nil},
	} {
		t.Run(c.name, func(t *testing.T) {
			var got []string
			for _, e := range Effects([]*Rule{c.rule}, c.change, MaxTags) {
				assert.Equal(t, e.Fired, c.want != nil || len(e.Tags) == 0 && e.Why == "", e.Why)
				got = append(got, e.Tags...)
			}
			assert.Equal(t, c.want, got)
		})
	}
	also := &Rule{Kind: "sailing", Mode: tags.Soften, Also: &FanOut{With: []string{"from"}, Tags: both.Tags}}
	e := Effects([]*Rule{also}, moved, MaxTags)[0]
	require.Len(t, e.Questions, 2, "old and new")
	assert.Equal(t, []string{"tholm"}, e.Questions[0].With)
	assert.Equal(t, []string{"sailing:1", "port:x"}, also.Also.Fill(Fields{"id": "1", "from": "x"}))
	assert.Contains(t, Effects([]*Rule{both}, &Change{Kind: "sailing", Op: Update, After: moved.After}, MaxTags)[0].Why, "old values are not known")
}

// TestBothGroupsOfAThingThatMovesGo: whatever moves from where to where, the tags of the
// place that lost it and of the place that got it are purged, and no others.
func TestBothGroupsOfAThingThatMovesGo(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		name := rapid.StringMatching(`[a-zø "{]{1,6}`)
		from, to := name.Draw(rt, "from"), name.Draw(rt, "to")
		r := rule(rt, "group:{g}")
		r.OnlyIfChanged = []string{"g"}
		e := Effects([]*Rule{r}, &Change{Kind: "sailing", Op: Update, Before: Fields{"g": from}, After: Fields{"g": to}}, MaxTags)[0]
		if from == to {
			assert.Empty(rt, e.Tags)
		} else {
			assert.Equal(rt, []string{"group:" + from, "group:" + to}, e.Tags)
		}
	})
}

func TestTemplatesAndChangesThatMakeNoSense(t *testing.T) {
	for text, says := range map[string]string{"": "at least one character", "a{": "not closed", "a{}": "is not a field", "{before.id}{x y}": "is not a field"} {
		_, err := ParseTemplate(text)
		assert.ErrorContains(t, err, says, text)
	}
	for text, says := range map[string]string{`[1]`: "JSON object", `{"a":1} x`: "something follows", `{`: "JSON object"} {
		_, err := ParseFields([]byte(text))
		assert.ErrorContains(t, err, says, text)
	}
	for says, c := range map[string]Change{
		"no kind": {}, "create, update or delete": {Kind: "x", Op: "upsert"}, "neither before nor after": {Kind: "x"},
		"its op is update": {Kind: "x", Op: Create, Before: Fields{}}, "a delete has values from after": {Kind: "x", Op: Delete, After: Fields{}},
	} {
		assert.ErrorContains(t, c.Check(), says)
	}
	assert.NoError(t, CheckField("vessel.name"))
	assert.Error(t, CheckField("vessel..name"))
}
