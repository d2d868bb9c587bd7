package client

import (
	"context"
	"encoding/json"
	"fmt"
)

// Encoder turns values into what is stored, and back. Type is the media type; it must say so
// when what is stored changes shape, or the fragment's Version must.
type Encoder[T any] struct {
	Type   string
	Encode func(T) ([]byte, error)
	Decode func([]byte) (T, error)
}

// JSON stores values as JSON.
func JSON[T any]() Encoder[T] {
	return Encoder[T]{
		Type:   "application/json",
		Encode: func(v T) ([]byte, error) { return json.Marshal(v) },
		Decode: func(b []byte) (v T, err error) { return v, json.Unmarshal(b, &v) },
	}
}

// Text stores strings as they are.
func Text() Encoder[string] {
	return Encoder[string]{
		Type:   "text/plain; charset=utf-8",
		Encode: func(s string) ([]byte, error) { return []byte(s), nil },
		Decode: func(b []byte) (string, error) { return string(b), nil },
	}
}

// LoadValue is LoadOrFill for a value. What is stored but cannot be decoded, such as what an
// older version of the application stored, is filled anew. Errors are those of LoadOrFill, and
// of encoding what fill returned.
func LoadValue[T any](ctx context.Context, s *Fragments, f Fragment, e Encoder[T], fill func(ctx context.Context) (T, error)) (T, error) {
	found, err := LoadValues(ctx, s, []Fragment{f}, e, func(ctx context.Context, _ int) (T, error) { return fill(ctx) })
	if err != nil {
		var none T
		return none, err
	}
	return found[0], nil
}

// LoadValues is LoadOrFillAll for values. Errors are those of LoadValue.
func LoadValues[T any](ctx context.Context, s *Fragments, all []Fragment, e Encoder[T], fill func(ctx context.Context, i int) (T, error)) ([]T, error) {
	typed := make([]Fragment, len(all))
	for i, f := range all {
		if f.Type == "" {
			f.Type = e.Type
		}
		typed[i] = f
	}
	bytesOf := func(ctx context.Context, i int) ([]byte, error) {
		v, err := fill(ctx, i)
		if err != nil {
			return nil, err
		}
		b, err := e.Encode(v)
		if err != nil {
			return nil, fmt.Errorf("encoding it: %w", err)
		}
		return b, nil
	}
	bodies, err := s.load(ctx, typed, false, fill, bytesOf)
	if err != nil {
		return nil, err
	}
	values := make([]T, len(bodies))
	for i, body := range bodies {
		if values[i], err = e.Decode(body); err == nil {
			continue
		}
		again, err := s.load(ctx, typed[i:i+1], true, fill, func(ctx context.Context, _ int) ([]byte, error) { return bytesOf(ctx, i) })
		if err != nil {
			return nil, err
		}
		if values[i], err = e.Decode(again[0]); err != nil {
			return nil, fmt.Errorf("decoding the fragment %s, just filled: %w", typed[i].Name, err)
		}
	}
	return values, nil
}
