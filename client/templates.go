package client

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"html/template"
	"time"
)

// Templates returns functions with which a template wraps a block as a fragment:
//
//	{{fragment .Context "row" .Sailing (parts .Sailing.ID) (version .Sailing.Updated)
//	           (lifetime "1h") (tags (printf "sailing:%d" .Sailing.ID))}}
//
// executes the template "row" unless what it made is stored. The first argument is the
// request's context. The template gets an Inside: .Data is what was passed, and .Context what
// fragments within it must be given, so that they become part of it. Set is asked for the
// templates when a page is made, so that the functions can be there before them:
//
//	var pages *template.Template
//	functions := fragments.Templates(func() *template.Template { return pages })
//	pages = template.Must(template.New("").Funcs(functions).ParseFS(…))
func (s *Fragments) Templates(set func() *template.Template) template.FuncMap {
	return template.FuncMap{
		"fragment": func(ctx context.Context, name string, data any, options ...FragmentOption) (template.HTML, error) {
			f := Fragment{Name: name}
			for _, option := range options {
				if err := option(&f); err != nil {
					return "", fmt.Errorf("the fragment %s: %w", name, err)
				}
			}
			body, err := s.LoadOrFill(ctx, f, func(ctx context.Context) ([]byte, error) {
				var b bytes.Buffer
				err := set().ExecuteTemplate(&b, name, Inside{ctx, data})
				return b.Bytes(), err
			})
			return template.HTML(body), err // the templates have escaped it
		},
		"parts":   func(parts ...any) FragmentOption { return func(f *Fragment) error { f.Parts = parts; return nil } },
		"version": func(v any) FragmentOption { return func(f *Fragment) error { f.Version = v; return nil } },
		"tags":    func(tags ...string) FragmentOption { return func(f *Fragment) error { f.Tags = tags; return nil } },
		"lifetime": func(text string) FragmentOption {
			return durationOption(text, func(f *Fragment, d time.Duration) { f.Lifetime = d })
		},
		"stale": func(text string) FragmentOption {
			return durationOption(text, func(f *Fragment, d time.Duration) { f.Stale = d })
		},
		"named": func(name string) FragmentOption { return func(f *Fragment) error { f.Name = name; return nil } },
	}
}

// Inside is what the template of a fragment gets.
type Inside struct {
	Context context.Context
	Data    any
}

// FragmentOption is what parts, version, tags, lifetime, stale and named make in a template.
type FragmentOption func(*Fragment) error

func durationOption(text string, set func(*Fragment, time.Duration)) FragmentOption {
	return func(f *Fragment) error {
		if text == "forever" {
			set(f, Forever)
			return nil
		}
		d, err := time.ParseDuration(text)
		if err != nil || d <= 0 {
			return errors.New(`a lifetime is written "10m", "1h30m" or "forever"`)
		}
		set(f, d)
		return nil
	}
}
