package protocol

import (
	"maps"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/dunglas/httpsfv"
)

// ParseGroups reads a Cache-Groups or Cache-Group-Invalidation field: a list of strings
// (RFC 9875 §2, §3), or of display strings, for names that are not ASCII (RFC 9651
// §3.3.8). A field that does not parse is ignored as a whole, members of
// another type one by one. cut counts what was over MaxTags and MaxTag.
func ParseGroups(lines []string) (groups []string, cut int) {
	if len(lines) == 0 {
		return nil, 0
	}
	list, err := httpsfv.UnmarshalList(lines)
	if err != nil {
		return nil, 0
	}
	for _, member := range list {
		item, ok := member.(httpsfv.Item)
		name := ""
		if ok {
			name = textOf(item.Value)
		}
		if name == "" {
			continue
		}
		name = Textual(name)
		if len(groups) >= MaxTags || len(name) > MaxTag {
			cut++
			continue
		}
		groups = append(groups, name)
	}
	return groups, cut
}

// FormatGroups writes a Cache-Groups field that ParseGroups reads.
func FormatGroups(groups []string) string {
	list := make(httpsfv.List, len(groups))
	for i, name := range groups {
		list[i] = textItem(name)
	}
	field, err := httpsfv.Marshal(list)
	if err != nil {
		return "" // a name that is not UTF-8; no tag is
	}
	return field
}

// Life is what LifeField holds.
type Life struct {
	Left  time.Duration
	AsOf  uint64 // ledger sequence
	Dated bool   // AsOf is known
}

// ParseLife reads LifeField; ok is false if it is not there, or does not parse.
func ParseLife(lines []string) (l Life, ok bool) {
	item, err := httpsfv.UnmarshalItem(lines)
	if err != nil || len(lines) == 0 {
		return l, false
	}
	switch v := item.Value.(type) {
	case float64:
		l.Left = time.Duration(v * float64(time.Second))
	case int64:
		l.Left = time.Duration(min(v, 1<<31)) * time.Second
	} // anything else says nothing of its length: it has no life left
	if asOf, has := item.Params.Get("as-of"); has {
		if n, isNumber := asOf.(int64); isNumber && n >= 0 {
			l.AsOf, l.Dated = uint64(n), true
		}
	}
	return l, true
}

// String writes LifeField.
func (l Life) String() string {
	life := strconv.FormatFloat(math.Floor(l.Left.Seconds()*1000)/1000, 'f', 3, 64)
	if !l.Dated {
		return life
	}
	return life + ";as-of=" + strconv.FormatUint(l.AsOf, 10)
}

// Part is a fragment, or an include of the edge's, in a page.
type Part struct {
	Name  string // namespace/key of a fragment, the URL of an include
	Found string // what became of it: reused, filled, hit, …
	Depth int    // 1 for those of the page itself, 2 for those in them
	Took  time.Duration
	Age   time.Duration // negative: it is not said
}

// maxPartsField bounds PartsField, in bytes.
const maxPartsField = 16 << 10

// FormatParts writes PartsField, as far as it has room.
func FormatParts(parts []Part) string {
	var list httpsfv.List
	size := 0
	for _, p := range parts {
		if size += len(p.Name) + 48; size > maxPartsField {
			break
		}
		item := textItem(p.Name)
		item.Params.Add("found", httpsfv.Token(p.Found))
		item.Params.Add("depth", int64(p.Depth))
		item.Params.Add("took", float64(p.Took.Microseconds())/1000)
		if p.Age >= 0 {
			item.Params.Add("age", int64(p.Age/time.Second))
		}
		list = append(list, item)
	}
	field, err := httpsfv.Marshal(list)
	if err != nil {
		return ""
	}
	return field
}

// ParseDirectParts returns the names of those parts in PartsField that the page itself is made
// of; nil if the field does not parse.
func ParseDirectParts(lines []string) (names []string) {
	list, err := httpsfv.UnmarshalList(lines)
	if err != nil {
		return nil
	}
	for _, member := range list {
		if item, ok := member.(httpsfv.Item); ok {
			if depth, _ := item.Params.Get("depth"); depth == int64(1) {
				names = append(names, textOf(item.Value))
			}
		}
	}
	return names
}

// ParseWork reads WorkField, a dictionary of numbers (RFC 9651 §3.2); what is none is left out, and a
// field that does not parse is ignored as a whole.
func ParseWork(lines []string) map[string]float64 {
	amounts := map[string]float64{}
	dictionary, err := httpsfv.UnmarshalDictionary(lines)
	if err != nil {
		return amounts
	}
	for _, name := range dictionary.Names() {
		member, _ := dictionary.Get(name)
		item, ok := member.(httpsfv.Item)
		if !ok {
			continue
		}
		switch v := item.Value.(type) {
		case int64:
			amounts[name] = float64(v)
		case float64:
			amounts[name] = v
		}
	}
	return amounts
}

// FormatWork writes WorkField; names that it cannot hold are left out, and so is what has more than
// three digits behind the point.
func FormatWork(amounts map[string]float64) string {
	dictionary := httpsfv.NewDictionary()
	for _, name := range slices.Sorted(maps.Keys(amounts)) {
		one := httpsfv.NewDictionary()
		var item httpsfv.Item
		if amount := amounts[name]; amount == math.Trunc(amount) && math.Abs(amount) < 1e15 {
			item = httpsfv.NewItem(int64(amount))
		} else {
			item = httpsfv.NewItem(math.Round(amount*1000) / 1000)
		}
		if one.Add(name, item); name != "" {
			if _, err := httpsfv.Marshal(one); err == nil {
				dictionary.Add(name, item)
			}
		}
	}
	field, _ := httpsfv.Marshal(dictionary) // each member was tried
	return field
}

// textItem is a string where it can be one, else a display string (RFC 9651 §3.3.8).
func textItem(s string) httpsfv.Item {
	if strings.ContainsFunc(s, func(r rune) bool { return r < 0x20 || r > 0x7e }) {
		return httpsfv.NewItem(httpsfv.DisplayString(s))
	}
	return httpsfv.NewItem(s)
}

func textOf(v any) string {
	switch v := v.(type) {
	case string:
		return v
	case httpsfv.DisplayString:
		return string(v)
	}
	return ""
}
