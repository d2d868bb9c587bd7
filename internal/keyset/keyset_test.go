package keyset

import (
	"context"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"encoding/base64"
	"encoding/json"
	"encoding/pem"
	"log/slog"
	"maps"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/lestrrat-go/jwx/v3/jwa"
	"github.com/lestrrat-go/jwx/v3/jwk"
	"github.com/lestrrat-go/jwx/v3/jws"
	"github.com/lestrrat-go/jwx/v3/jwt"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gerastic/internal/core/policy"
)

var (
	ctx  = context.Background()
	now  = time.Date(2026, 5, 17, 12, 0, 0, 0, time.UTC)
	role = policy.Claim{Name: "role"}
	open = Opener{Log: slog.New(slog.DiscardHandler)}
)

// signer signs tokens with one key.
type signer struct {
	alg     jwa.SignatureAlgorithm
	private jwk.Key
}

func newSigner(t *testing.T, alg jwa.SignatureAlgorithm, raw any, name string) signer {
	key, err := jwk.Import(raw)
	require.NoError(t, err)
	if name != "" {
		require.NoError(t, key.Set(jwk.KeyIDKey, name))
	}
	return signer{alg, key}
}

// public is the key as a JWK.
func (s signer) public(t *testing.T) json.RawMessage {
	key := s.private
	if s.alg != jwa.HS256() {
		var err error
		key, err = key.PublicKey()
		require.NoError(t, err)
	}
	text, err := json.Marshal(key)
	require.NoError(t, err)
	return text
}

func (s signer) sign(t *testing.T, claims map[string]any) string {
	b := jwt.NewBuilder()
	for name, v := range claims {
		b = b.Claim(name, v)
	}
	token, err := b.Build()
	require.NoError(t, err)
	signed, err := jwt.Sign(token, jwt.WithKey(s.alg, s.private))
	require.NoError(t, err)
	return string(signed)
}

func setOf(t *testing.T, keys ...signer) string {
	var all struct {
		Keys []json.RawMessage `json:"keys"`
	}
	for _, k := range keys {
		all.Keys = append(all.Keys, k.public(t))
	}
	text, err := json.Marshal(all)
	require.NoError(t, err)
	return string(text)
}

func file(t *testing.T, text string) string {
	path := filepath.Join(t.TempDir(), "keys.json")
	require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
	return path
}

func signers(t *testing.T) (all []signer) {
	rsaKey, err := rsa.GenerateKey(rand.Reader, 2048)
	require.NoError(t, err)
	ecKey, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	_, edKey, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	return []signer{
		newSigner(t, jwa.HS256(), []byte("a secret of thirty-two bytes, or more"), "h"), newSigner(t, jwa.RS256(), rsaKey, "r"),
		newSigner(t, jwa.ES256(), ecKey, "e"), newSigner(t, jwa.EdDSA(), edKey, "d"),
	}
}

// TestTokensThatHold: each algorithm, by a set and by a key alone; and none that is changed, expired, not
// valid yet, unsigned, signed by another, or by a public key as a secret.
func TestTokensThatHold(t *testing.T) {
	all, foreign := signers(t), signers(t)
	foreign[0] = newSigner(t, jwa.HS256(), []byte("another secret of thirty-two bytes!!"), "h")
	keys, err := open.Open(file(t, setOf(t, all...)))
	require.NoError(t, err)
	claims := map[string]any{"role": "editor", "exp": now.Add(time.Minute), "nbf": now, "iss": "us", "aud": []string{"shop", "site"}}
	with := func(name string, v any) map[string]any {
		c := map[string]any{}
		maps.Copy(c, claims)
		c[name] = v
		return c
	}
	for i, s := range all {
		token := s.sign(t, claims)
		value, until, ok := keys.Value(ctx, token, role, now)
		require.True(t, ok, s.alg)
		assert.Equal(t, "editor", value)
		assert.Equal(t, now.Add(time.Minute), until.UTC())
		alone, err := open.Open(file(t, string(s.public(t))))
		require.NoError(t, err)
		_, _, ok = alone.Value(ctx, token, role, now)
		assert.True(t, ok, "a JWK alone")
		_, _, ok = keys.Value(ctx, token, policy.Claim{Name: "role", Issuer: "us", Audience: "site"}, now)
		assert.True(t, ok)

		parts := strings.Split(token, ".")
		none := base64.RawURLEncoding.EncodeToString([]byte(`{"alg":"none"}`)) + "." + parts[1] + "."
		forged := parts[0] + "." + base64.RawURLEncoding.EncodeToString([]byte(`{"role":"admin","exp":99999999999}`)) + "." + parts[2]
		for what, bad := range map[string]string{
			"forged": forged, "unsigned": none, "without its signature": parts[0] + "." + parts[1] + ".", "foreign": foreign[i].sign(t, claims), "no token": "editor",
			"expired": s.sign(t, with("exp", now)), "not valid yet": s.sign(t, with("nbf", now.Add(time.Second))), "long": token + strings.Repeat("A", longestToken),
			"without a role": s.sign(t, map[string]any{"exp": now.Add(time.Minute)}),
		} {
			_, _, ok = keys.Value(ctx, bad, role, now)
			assert.False(t, ok, "%s: %s", s.alg, what)
		}
		for _, want := range []policy.Claim{{Name: "role", Issuer: "others"}, {Name: "role", Audience: "blog"}} {
			_, _, ok = keys.Value(ctx, token, want, now)
			assert.False(t, ok, want)
		}
	}

	// What must be understood and is not (RFC 7515 §4.1.11).
	headers := jws.NewHeaders()
	require.NoError(t, headers.Set("crit", []string{"x"}))
	require.NoError(t, headers.Set("x", "y"))
	critical, err := jws.Sign([]byte(`{"role":"editor","exp":99999999999}`), jws.WithKey(all[2].alg, all[2].private, jws.WithProtectedHeaders(headers)))
	require.NoError(t, err)
	_, _, ok := keys.Value(ctx, string(critical), role, now)
	assert.False(t, ok)

	// The text of a public key is no secret of an HMAC.
	var raw rsa.PrivateKey
	require.NoError(t, jwk.Export(all[1].private, &raw))
	der, err := x509.MarshalPKIXPublicKey(&raw.PublicKey)
	require.NoError(t, err)
	public := pem.EncodeToMemory(&pem.Block{Type: "PUBLIC KEY", Bytes: der})
	byPEM, err := open.Open(file(t, string(public)))
	require.NoError(t, err)
	_, _, ok = byPEM.Value(ctx, all[1].sign(t, claims), role, now)
	assert.True(t, ok)
	_, _, ok = byPEM.Value(ctx, newSigner(t, jwa.HS256(), public, "").sign(t, claims), role, now)
	assert.False(t, ok)

	secret, err := open.Of("a secret of thirty-two bytes, or more")
	require.NoError(t, err)
	_, _, ok = secret.Value(ctx, all[0].sign(t, claims), role, now)
	assert.True(t, ok)
}

func TestWhatAClaimSays(t *testing.T) {
	s := newSigner(t, jwa.HS256(), []byte("a secret of thirty-two bytes, or more"), "")
	keys, err := open.Open(file(t, setOf(t, s)))
	require.NoError(t, err)
	for _, c := range []struct {
		claim any
		name  string
		says  string
	}{
		{[]string{"b", "a", "b"}, "role", "a,b"}, {7, "role", "7"}, {true, "role", "true"}, {map[string]any{"roles": []string{"x"}}, "role.roles", "x"},
		{[]any{"a,b"}, "role", ""}, {map[string]any{}, "role", ""}, {"", "role", ""}, {[]any{}, "role", ""}, {"x", "rule", ""},
	} {
		value, _, ok := keys.Value(ctx, s.sign(t, map[string]any{"role": c.claim}), policy.Claim{Name: c.name}, now)
		assert.Equal(t, c.says, value, c)
		assert.Equal(t, c.says != "", ok, c)
	}
}

// TestKeysChange: a file is read anew; what is broken leaves the keys of before; a set at a URL is fetched
// when it is needed, and again for a key that is new.
func TestKeysChange(t *testing.T) {
	a, b := signers(t)[2], signers(t)[2]
	require.NoError(t, b.private.Set(jwk.KeyIDKey, "new"))
	claims := map[string]any{"role": "editor"}
	holds := func(keys policy.Keys, s signer, at time.Time) bool {
		_, _, ok := keys.Value(ctx, s.sign(t, claims), role, at)
		return ok
	}
	path := file(t, setOf(t, a))
	keys, err := open.Open(path)
	require.NoError(t, err)
	later := time.Now()
	assert.True(t, holds(keys, a, later) && !holds(keys, b, later))
	require.NoError(t, os.WriteFile(path, []byte("{"), 0o600))
	later = later.Add(2 * lookAfter)
	assert.True(t, holds(keys, a, later))
	require.NoError(t, os.WriteFile(path, []byte(setOf(t, b)), 0o600))
	later = later.Add(2 * lookAfter)
	assert.True(t, holds(keys, b, later) && !holds(keys, a, later))

	var served atomic.Value
	var asked atomic.Int64
	served.Store("")
	site := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		asked.Add(1)
		if served.Load() == "" {
			w.WriteHeader(500)
		}
		_, _ = w.Write([]byte(served.Load().(string)))
	}))
	defer site.Close()
	keys, err = open.Open(site.URL + "/keys")
	require.NoError(t, err)
	assert.EqualValues(t, 0, asked.Load())
	assert.False(t, holds(keys, a, later))
	served.Store(setOf(t, a))
	assert.False(t, holds(keys, a, later.Add(time.Second)), "it is not asked at once again")
	assert.EqualValues(t, 1, asked.Load())
	later = later.Add(lookAfter)
	assert.True(t, holds(keys, a, later))
	served.Store(setOf(t, a, b))
	assert.False(t, holds(keys, b, later.Add(time.Second)))
	assert.True(t, holds(keys, b, later.Add(lookAfter)), "its key is a new one")
	for range 100 {
		holds(keys, newSigner(t, jwa.ES256(), mustEC(t), "unknown"), later.Add(lookAfter+time.Second))
	}
	assert.EqualValues(t, 3, asked.Load(), "who makes keys up does not make it ask")
}

func mustEC(t *testing.T) *ecdsa.PrivateKey {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	return key
}

func TestMistakesOfKeys(t *testing.T) {
	path := file(t, "{}")
	_, err := open.Open(filepath.Join(filepath.Dir(path), "kyes.json"))
	assert.ErrorContains(t, err, "did you mean "+path)
	for text, says := range map[string]string{"": "neither a JWK set", "x": "neither a JWK set", "{}": "", `{"keys":[]}`: "no key in it", strings.Repeat(" ", longest+1): "1 MiB"} {
		_, err := open.Open(file(t, text))
		assert.ErrorContains(t, err, says)
	}
	_, err = open.Open("")
	assert.ErrorContains(t, err, "no file")
}
