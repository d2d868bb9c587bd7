package client

import "context"

// Keyed is a thing that says what fragment shows it: name, parts, version and lifetime.
type Keyed interface{ FragmentKey() Fragment }

// tagged is a Keyed thing that says its tags, too.
type tagged interface{ FragmentTags() []string }

// Of is LoadOrFill for a thing that says its own key, and perhaps (FragmentTags) its tags.
func (s *Fragments) Of(ctx context.Context, thing Keyed, fill func(ctx context.Context) ([]byte, error)) ([]byte, error) {
	return s.LoadOrFill(ctx, fragmentOf(thing), fill)
}

func fragmentOf(thing Keyed) Fragment {
	f := thing.FragmentKey()
	if t, says := thing.(tagged); says {
		f.Tags = append(append([]string(nil), f.Tags...), t.FragmentTags()...)
	}
	return f
}
