package policy

import (
	"bytes"
	"encoding/json"
	"io"
	"net/url"
	"strconv"
	"strings"

	"gerastic/internal/core/httprules"
)

// MostMessage is how long a body may be whose members are read, in bytes.
const MostMessage = 64 << 10

// Message is a body whose members tags are made of. nil is one that is not known.
type Message struct{ content any }

// ReadMessage reads JSON, or a form. What is neither has no members.
func ReadMessage(contentType string, body []byte) *Message {
	switch start := bytes.TrimLeft(body, " \t\r\n"); {
	case httprules.MediaType(contentType) == "application/x-www-form-urlencoded":
		if fields, err := url.ParseQuery(string(body)); err == nil {
			return &Message{fields}
		}
	case len(start) > 0 && (start[0] == '{' || start[0] == '['): // whatever its type: many do not say
		d := json.NewDecoder(bytes.NewReader(body))
		d.UseNumber()
		var content any
		if d.Decode(&content) == nil && d.Decode(new(any)) == io.EOF {
			return &Message{content}
		}
	}
	return &Message{}
}

// Values are those of a member by its path, group or items.0.id: one, or each of a list. known is false
// if the body is not.
func (m *Message) Values(path string) (values []string, known bool) {
	if m == nil {
		return nil, false
	}
	if fields, isForm := m.content.(url.Values); isForm {
		for _, value := range fields[path] {
			if value != "" {
				values = append(values, value)
			}
		}
		return values, true
	}
	at := m.content
	for name := range strings.SplitSeq(path, ".") {
		switch inner := at.(type) {
		case map[string]any:
			at = inner[name]
		case []any:
			n, err := strconv.Atoi(name)
			if err != nil || n < 0 || n >= len(inner) {
				return nil, true
			}
			at = inner[n]
		default:
			return nil, true
		}
	}
	list, isList := at.([]any)
	if !isList {
		list = []any{at}
	}
	for _, one := range list {
		switch v := one.(type) {
		case string:
			if v != "" {
				values = append(values, v)
			}
		case json.Number:
			values = append(values, v.String())
		case bool:
			values = append(values, strconv.FormatBool(v))
		}
	}
	return values, true
}
