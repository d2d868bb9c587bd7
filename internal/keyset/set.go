package keyset

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"sync"
	"time"

	"github.com/lestrrat-go/jwx/v3/jwk"

	"gerastic/internal/core/policy"
)

const (
	// longest is how many bytes keys may have.
	longest = 1 << 20
	// lookAfter is how often a file is looked at, and anew after how long a set is fetched.
	lookAfter  = 5 * time.Second
	fetchAfter = 5 * time.Minute
	// fetchTime is how long fetching a set may take.
	fetchTime = 5 * time.Second
)

// Set are the keys of one place. It is safe for concurrent use.
type Set struct {
	place  string
	read   func(ctx context.Context) ([]byte, error)
	remote bool
	log    *slog.Logger

	reading sync.Mutex // one reading at a time

	mu     sync.Mutex // guards what follows
	keys   jwk.Set    // nil: none were read yet
	text   []byte
	looked time.Time
	broken string // why the last reading failed; "" if it went well
}

// Opener opens sets for policies.
type Opener struct{ Log *slog.Logger }

// Open implements policy.KeyOpener: place is the path of a file, with a JWK set, a JWK or keys in PEM; or
// the URL of a set. What is wrong with a file is an error; a set at a URL is fetched when it is needed.
func (o Opener) Open(place string) (policy.Keys, error) {
	s := &Set{place: place, log: o.Log}
	u, err := url.Parse(place)
	switch {
	case err == nil && (u.Scheme == "https" || u.Scheme == "http") && u.Host != "":
		s.remote, s.read = true, func(ctx context.Context) ([]byte, error) { return fetch(ctx, place) }
		return s, nil
	case place == "":
		return nil, errors.New("keys name no file and no URL")
	}
	s.read = func(context.Context) ([]byte, error) { return readFile(place) }
	return s, s.renew(context.Background(), time.Now())
}

// Of implements policy.KeyOpener: keys as they stand in a file, or the text itself as the secret of HMAC.
func (o Opener) Of(text string) (policy.Keys, error) {
	s := &Set{place: "the secret", log: o.Log, read: func(context.Context) ([]byte, error) { return []byte(text), nil }}
	if keys, err := parse([]byte(text)); err == nil {
		s.keys = keys
		return s, nil
	}
	key, err := jwk.Import([]byte(text))
	if err != nil {
		return nil, err
	}
	s.keys, s.text = jwk.NewSet(), []byte(text) // it is read for as long as it is the same
	return s, s.keys.AddKey(key)
}

func readFile(path string) ([]byte, error) {
	f, err := os.Open(path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("there is no such file%s", meant(path))
	}
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return io.ReadAll(io.LimitReader(f, longest+1))
}

// meant names the file that reads nearly like one that is not there.
func meant(path string) string {
	entries, _ := os.ReadDir(filepath.Dir(path)) // without one there is nothing to name
	var known []string
	for _, e := range entries {
		known = append(known, e.Name())
	}
	if near := policy.Nearest(filepath.Base(path), known); near != "" {
		return fmt.Sprintf("; did you mean %s?", filepath.Join(filepath.Dir(path), near))
	}
	return ""
}

func fetch(ctx context.Context, from string) ([]byte, error) {
	ctx, cancel := context.WithTimeout(ctx, fetchTime)
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, from, nil)
	if err != nil {
		return nil, err
	}
	answer, err := http.DefaultClient.Do(req)
	if err != nil {
		return nil, err
	}
	defer answer.Body.Close()
	if answer.StatusCode != http.StatusOK {
		return nil, fmt.Errorf("it was answered with status %d", answer.StatusCode)
	}
	return io.ReadAll(io.LimitReader(answer.Body, longest+1))
}

// parse reads a JWK set, a JWK, or keys in PEM.
func parse(text []byte) (jwk.Set, error) {
	if len(text) > longest {
		return nil, errors.New("more than 1 MiB")
	}
	set, err := jwk.Parse(text, jwk.WithPEM(bytes.Contains(text, []byte("-----BEGIN"))))
	if err != nil {
		return nil, errors.New("neither a JWK set, nor a JWK, nor keys in PEM")
	}
	public := jwk.NewSet()
	for i := range set.Len() {
		key, _ := set.Key(i)
		if key.KeyType().String() != "oct" {
			if key, err = key.PublicKey(); err != nil {
				return nil, err
			}
		}
		if usable(key) {
			if err := public.AddKey(key); err != nil {
				return nil, err
			}
		}
	}
	if public.Len() == 0 {
		return nil, errors.New("no key in it verifies HS256, RS256, ES256 or EdDSA")
	}
	return public, nil
}

// renew reads the keys. Those that were read before stay when that fails.
func (s *Set) renew(ctx context.Context, now time.Time) error {
	text, err := s.read(ctx)
	s.mu.Lock()
	defer s.mu.Unlock()
	s.looked = now
	if err == nil && s.keys != nil && bytes.Equal(text, s.text) {
		s.broken = ""
		return nil
	}
	var keys jwk.Set
	if err == nil {
		keys, err = parse(text)
	}
	if err != nil {
		err = fmt.Errorf("the keys of %s cannot be used: %w", s.place, err)
		if said := err.Error(); said != s.broken {
			s.broken = said
			if s.keys != nil {
				s.log.Error("keys of signed tokens cannot be read anew; those of before count on", "error", err)
			}
		}
		return err
	}
	s.keys, s.text, s.broken = keys, text, ""
	return nil
}

// at are the keys as they are now.
func (s *Set) at(ctx context.Context, now time.Time) jwk.Set {
	keys, old := s.current(now)
	if !old {
		return keys
	}
	if keys != nil && !s.reading.TryLock() {
		return keys // somebody reads them already
	}
	if keys == nil {
		s.reading.Lock()
	}
	defer s.reading.Unlock()
	if keys, old = s.current(now); old {
		if err := s.renew(ctx, now); err != nil && keys == nil {
			s.log.Error("nobody has a group", "error", err)
		}
		keys, _ = s.current(now)
	}
	return keys
}

// current are the keys, and whether it is time to read them anew.
func (s *Set) current(now time.Time) (keys jwk.Set, old bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	every := lookAfter
	if s.remote && s.keys != nil && s.broken == "" {
		every = fetchAfter
	}
	return s.keys, now.Sub(s.looked) >= every
}

// unknown says that a token names a key that is not in the set: it may be a new one.
func (s *Set) unknown(now time.Time) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.remote && now.Sub(s.looked) >= lookAfter {
		s.looked = time.Time{}
	}
}
