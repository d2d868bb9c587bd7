package keyset

import (
	"context"
	"encoding/json"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/lestrrat-go/jwx/v3/jwa"
	"github.com/lestrrat-go/jwx/v3/jwk"
	"github.com/lestrrat-go/jwx/v3/jws"
	"github.com/lestrrat-go/jwx/v3/jwt"

	"gerastic/internal/core/policy"
)

// longestToken is how many bytes a token may have.
const longestToken = 8 << 10

// algorithms are those that count, with the kind of key that each needs: a public key is never the secret
// of an HMAC.
var algorithms = map[jwa.SignatureAlgorithm]struct{ kind, curve string }{
	jwa.HS256(): {"oct", ""}, jwa.RS256(): {"RSA", ""}, jwa.ES256(): {"EC", "P-256"}, jwa.EdDSA(): {"OKP", "Ed25519"},
}

// fits reports whether a key may verify an algorithm.
func fits(key jwk.Key, alg jwa.SignatureAlgorithm) bool {
	need, known := algorithms[alg]
	if !known || key.KeyType().String() != need.kind {
		return false
	}
	var curve jwa.EllipticCurveAlgorithm
	if need.curve != "" && (key.Get("crv", &curve) != nil || curve.String() != need.curve) {
		return false
	}
	if stated, ok := key.Algorithm(); ok && stated.String() != alg.String() {
		return false
	}
	if use, ok := key.KeyUsage(); ok && use != "sig" && use != "" {
		return false
	}
	operations, ok := key.KeyOps()
	return !ok || len(operations) == 0 || slices.Contains(operations, jwk.KeyOpVerify)
}

func usable(key jwk.Key) bool {
	for alg := range algorithms {
		if fits(key, alg) {
			return true
		}
	}
	return false
}

// Value is a claim of a token that holds now, and until when it does. ok is false for one that is forged,
// expired, not valid yet, unsigned, foreign, or without the claim.
func (s *Set) Value(ctx context.Context, token string, want policy.Claim, now time.Time) (value string, until time.Time, ok bool) {
	if len(token) > longestToken || strings.Count(token, ".") != 2 {
		return "", now, false
	}
	message, err := jws.Parse([]byte(token), jws.WithCompact())
	if err != nil || len(message.Signatures()) != 1 {
		return "", now, false
	}
	header := message.Signatures()[0].ProtectedHeaders()
	alg, stated := header.Algorithm()
	if !stated {
		return "", now, false
	}
	name, named := header.KeyID()
	keys := s.fitting(ctx, alg, name, now)
	if len(keys) == 0 && named {
		s.unknown(now)
		keys = s.fitting(ctx, alg, name, now)
	}
	for _, key := range keys {
		claims, err := jwt.Parse([]byte(token), jwt.WithKey(alg, key), jwt.WithValidate(false))
		if err == nil {
			return read(claims, want, now)
		}
	}
	return "", now, false
}

// fitting are the keys that a token may be signed with: those of its algorithm, and of its key's name if
// both say one.
func (s *Set) fitting(ctx context.Context, alg jwa.SignatureAlgorithm, name string, now time.Time) (all []jwk.Key) {
	set := s.at(ctx, now)
	if set == nil {
		return nil
	}
	for i := range set.Len() {
		key, _ := set.Key(i)
		if id, ok := key.KeyID(); fits(key, alg) && (!ok || name == "" || id == name) {
			all = append(all, key)
		}
	}
	return all
}

// read judges the claims of a token whose signature holds.
func read(claims jwt.Token, want policy.Claim, now time.Time) (value string, until time.Time, ok bool) {
	until = now.Add(24 * time.Hour)
	if ends, stated := claims.Expiration(); stated {
		if until = ends; !now.Before(ends) {
			return "", now, false
		}
	}
	if begins, stated := claims.NotBefore(); stated && now.Before(begins) {
		return "", now, false
	}
	if issuer, _ := claims.Issuer(); want.Issuer != "" && issuer != want.Issuer {
		return "", now, false
	}
	if audience, _ := claims.Audience(); want.Audience != "" && !slices.Contains(audience, want.Audience) {
		return "", now, false
	}
	text, err := json.Marshal(claims)
	if err != nil {
		return "", now, false
	}
	var all map[string]any
	if json.Unmarshal(text, &all) != nil {
		return "", now, false
	}
	value = textOf(member(all, want.Name))
	return value, until, value != ""
}

// member is a claim by its name, or by the path to it: realm_access.roles.
func member(all map[string]any, name string) any {
	if v, ok := all[name]; ok {
		return v
	}
	first, rest, deeper := strings.Cut(name, ".")
	inner, ok := all[first].(map[string]any)
	if !deeper || !ok {
		return nil
	}
	return member(inner, rest)
}

// textOf is a claim as a group's name; those who have several roles are a group of their own. "" if it is
// none.
func textOf(claim any) string {
	switch v := claim.(type) {
	case string:
		return v
	case bool:
		return strconv.FormatBool(v)
	case float64:
		return strconv.FormatFloat(v, 'f', -1, 64)
	case []any:
		var names []string
		for _, one := range v {
			name := textOf(one)
			if name == "" || strings.Contains(name, ",") {
				return ""
			}
			names = append(names, name)
		}
		return strings.Join(slices.Compact(slices.Sorted(slices.Values(names))), ",")
	}
	return ""
}
