package client

import (
	"context"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"net/url"
	"strings"
	"time"
)

// WantedFragment is one that the application should fill: its name is kept warm, somebody asked for it
// lately, and it is not fresh, or not for long.
type WantedFragment struct {
	Namespace string `json:"namespace"`
	Name      string `json:"name"`
	Key       string `json:"key"`
}

// Wanted returns fragments that the application should fill, and waits for the first as long as wait, 30 s
// at most. Each is told to one who asks, and again after half a minute if it is not filled.
func (s *Fragments) Wanted(ctx context.Context, wait time.Duration) ([]WantedFragment, error) {
	q := url.Values{"wait": {wait.String()}}
	if s.options.Namespace != "" {
		q.Set("namespace", s.options.Namespace)
	}
	var out struct {
		Fragments []WantedFragment `json:"fragments"`
	}
	err := s.wire.client.call(ctx, "GET", "/v1/fragments/wanted", q, nil, &out)
	return out.Fragments, err
}

// KeepWarm fills what the node wants filled, one after the other, until ctx ends, whose error it returns.
// fills are by the names of fragments. Each gets a context in which LoadOrFill fills the fragment with the
// same name and parts, even if it is fresh still, and those parts (see ParseKey). It does what a page does:
// LoadOrFill. What a fill returns is logged, and the fragment is told again after a while.
func (s *Fragments) KeepWarm(ctx context.Context, fills map[string]func(ctx context.Context, parts []any) error) error {
	pause := time.Second
	for ctx.Err() == nil {
		all, err := s.Wanted(ctx, 20*time.Second)
		if err != nil && ctx.Err() == nil {
			s.warn("what should be kept warm cannot be asked for", err)
			select {
			case <-ctx.Done():
			case <-time.After(pause):
			}
			pause = min(2*pause, time.Minute)
			continue
		}
		pause = time.Second
		for _, w := range all {
			if ctx.Err() == nil {
				s.fillWanted(ctx, w, fills[w.Name])
			}
		}
	}
	return ctx.Err()
}

func (s *Fragments) fillWanted(ctx context.Context, w WantedFragment, fill func(ctx context.Context, parts []any) error) {
	if fill == nil {
		s.warn("nothing fills the fragments named "+w.Name, errors.New("KeepWarm has no such fill"))
		return
	}
	_, parts, err := ParseKey(w.Key)
	if err == nil {
		err = fill(context.WithValue(ctx, renewalKey{}, w.Key), parts)
	}
	if err != nil && ctx.Err() == nil {
		s.warn("a fragment cannot be kept warm: "+w.Key, err)
	}
}

// renewalKey is where a context holds the key of a fragment that is filled even if it is fresh.
type renewalKey struct{}

// ParseKey reads the key of a fragment back into its name and parts: strings, float64, bool, time.Time,
// []byte and nil. The version, if there is one, is left out: it is that of then.
func ParseKey(key string) (name string, parts []any, err error) {
	name, rest, bracket := strings.Cut(key, "(")
	if !bracket {
		return name, nil, nil
	}
	for rest != "" && rest[0] != ')' {
		part, after, err := parseValue(rest)
		if err != nil {
			return "", nil, fmt.Errorf("the key %q: %w", key, err)
		}
		parts = append(parts, part)
		if rest = strings.TrimPrefix(after, ","); rest == after && !strings.HasPrefix(rest, ")") {
			return "", nil, fmt.Errorf("the key %q does not read as name(part,…)", key)
		}
	}
	if rest == "" {
		return "", nil, fmt.Errorf("the key %q has no closing bracket", key)
	}
	return name, parts, nil
}

// parseValue reads the first of some values.
func parseValue(text string) (value any, rest string, err error) {
	kind := byte(0)
	if len(text) > 1 && (text[0] == 't' || text[0] == 'x') && text[1] == '"' {
		kind, text = text[0], text[1:]
	}
	d := json.NewDecoder(strings.NewReader(text))
	if err := d.Decode(&value); err != nil {
		return nil, "", errors.New("a part of it is neither a text, nor a number, nor true, false or null")
	}
	rest = text[d.InputOffset():]
	switch s, _ := value.(string); kind {
	case 't':
		value, err = time.Parse(time.RFC3339Nano, s)
	case 'x':
		value, err = hex.DecodeString(s)
	}
	return value, rest, err
}
