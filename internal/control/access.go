package control

import (
	"context"
	"crypto/rand"
	"net/http"
	"strings"
	"sync"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"gerastic/internal/core/httprules"
	"gerastic/internal/records"
)

const wantToken = "this call needs a token: send Authorization: Bearer TOKEN, or sign in on the console"

func lacks(right records.Right) string {
	return "the token lacks the right " + string(right) + "; make one with: gerastic token create --rights " + string(right)
}

// rightOf marks an operation with the right that it needs.
func rightOf(right records.Right) map[string]any { return map[string]any{"right": right} }

var secured = []map[string][]string{{"token": {}}}

// operation describes a call that needs a right.
func operation(id, method, path, summary string, right records.Right) huma.Operation {
	return huma.Operation{OperationID: id, Method: method, Path: path, Summary: summary, Security: secured, Metadata: rightOf(right)}
}

type callerKey struct{}

// caller is the name of the token behind a call, for the ledger.
func caller(ctx context.Context) string {
	t, _ := ctx.Value(callerKey{}).(records.Token)
	return t.Name
}

// authorize lets a call through when its token has the operation's right. Operations
// without one are open.
func (c *Control) authorize(ctx huma.Context, next func(huma.Context)) {
	right, guarded := ctx.Operation().Metadata["right"].(records.Right)
	if !guarded {
		next(ctx)
		return
	}
	token, ok := c.tokenOf(ctx.Header("Authorization"), ctx.Header("Cookie"))
	switch {
	case !ok:
		ctx.SetHeader("WWW-Authenticate", `Bearer realm="gerastic"`)
		_ = huma.WriteErr(c.api, ctx, http.StatusUnauthorized, wantToken)
	case !token.May(right):
		_ = huma.WriteErr(c.api, ctx, http.StatusForbidden, lacks(right))
	default:
		next(huma.WithValue(ctx, callerKey{}, token))
	}
}

// tokenOf finds the token behind a call: a bearer token, or else a session.
func (c *Control) tokenOf(authorization, cookies string) (records.Token, bool) {
	if authorization != "" {
		scheme, secret, _ := strings.Cut(authorization, " ")
		if !strings.EqualFold(scheme, "Bearer") {
			return records.Token{}, false
		}
		return c.node.TokenFor(strings.TrimSpace(secret))
	}
	parsed, err := http.ParseCookie(cookies)
	if err != nil {
		return records.Token{}, false
	}
	for _, cookie := range parsed {
		if cookie.Name == cookieName || cookie.Name == securePrefix+cookieName {
			return c.sessions.token(cookie.Value, c.now(), c.node.TokenFor)
		}
	}
	return records.Token{}, false
}

const (
	cookieName    = httprules.SessionCookie
	sessionLength = 12 * time.Hour
	// maxSessions is how many one token may have; beyond it the oldest of its own ends.
	maxSessions = 20
	// securePrefix keeps a cookie to this host and to TLS (RFC 6265bis §4.1.3.2).
	securePrefix = "__Host-"
)

// sessions are the sign-ins of the console, in memory: a restart ends them. A session
// keeps its token's secret, so that revoking the token ends it too.
type sessions struct {
	mu   sync.Mutex
	open map[string]session
}

type session struct {
	secret string
	until  time.Time
}

// begin signs in, at the cost of nobody else's session.
func (s *sessions) begin(secret string, now time.Time) (id string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	own, oldest := 0, ""
	for id, old := range s.open {
		switch {
		case now.After(old.until):
			delete(s.open, id)
		case old.secret == secret:
			own++
			if oldest == "" || old.until.Before(s.open[oldest].until) {
				oldest = id
			}
		}
	}
	if own >= maxSessions {
		delete(s.open, oldest)
	}
	id = rand.Text() + rand.Text()
	s.open[id] = session{secret, now.Add(sessionLength)}
	return id
}

func (s *sessions) end(id string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	delete(s.open, id)
}

func (s *sessions) token(id string, now time.Time, find func(string) (records.Token, bool)) (records.Token, bool) {
	s.mu.Lock()
	open, ok := s.open[id]
	s.mu.Unlock()
	if !ok || now.After(open.until) {
		return records.Token{}, false
	}
	return find(open.secret)
}

type whoAmI struct {
	Name   string   `json:"name"`
	Rights []string `json:"rights"`
	Node   string   `json:"node"`
}

type sessionAnswer struct {
	SetCookie http.Cookie `header:"Set-Cookie"`
	Body      whoAmI
}

// sessionCalls are how the console signs in and out. The cookie is out of reach of
// scripts and of other sites; state-changing calls are checked for their origin besides.
func (c *Control) sessionCalls() {
	huma.Register(c.api, huma.Operation{OperationID: "sign-in", Method: http.MethodPost, Path: "/v1/session", Summary: "Sign in with a token", MaxBodyBytes: 4 << 10},
		func(_ context.Context, in *struct {
			encrypted
			Body struct {
				Token string `json:"token" minLength:"1" maxLength:"200"`
			}
		}) (*sessionAnswer, error) {
			secret := strings.TrimSpace(in.Body.Token)
			token, ok := c.node.TokenFor(secret)
			if !ok {
				return nil, huma.Error401Unauthorized("no token in force reads like this; the first one is in the node's directory, in the file admin.token")
			}
			return &sessionAnswer{SetCookie: in.cookie(c.sessions.begin(secret, c.now()), int(sessionLength/time.Second)), Body: c.who(token)}, nil
		})
	huma.Register(c.api, operation("who-am-i", http.MethodGet, "/v1/session", "Tell whose token this is", records.Read),
		func(ctx context.Context, _ *struct{}) (*struct{ Body whoAmI }, error) {
			token, _ := ctx.Value(callerKey{}).(records.Token)
			return &struct{ Body whoAmI }{c.who(token)}, nil
		})
	huma.Register(c.api, huma.Operation{OperationID: "sign-out", Method: http.MethodDelete, Path: "/v1/session", Summary: "Sign out", DefaultStatus: http.StatusNoContent},
		func(_ context.Context, in *struct {
			encrypted
			Session string `cookie:"gerastic_session"`
			Secure  string `cookie:"__Host-gerastic_session"`
		}) (*struct {
			SetCookie http.Cookie `header:"Set-Cookie"`
		}, error) {
			c.sessions.end(in.Session)
			c.sessions.end(in.Secure)
			return &struct {
				SetCookie http.Cookie `header:"Set-Cookie"`
			}{in.cookie("", -1)}, nil
		})
}

// encrypted reports whether the browser speaks TLS, to us or to a proxy before us.
type encrypted struct{ tls bool }

// Resolve implements huma.Resolver.
func (e *encrypted) Resolve(ctx huma.Context) []error {
	e.tls = ctx.TLS() != nil || strings.EqualFold(ctx.Header("X-Forwarded-Proto"), "https")
	return nil
}

// cookie carries a session; with TLS it is out of reach of other hosts' and of cleartext.
func (e *encrypted) cookie(id string, age int) http.Cookie {
	c := http.Cookie{Name: cookieName, Value: id, Path: "/", MaxAge: age, HttpOnly: true, SameSite: http.SameSiteStrictMode}
	if e.tls {
		c.Name, c.Secure = securePrefix+cookieName, true
	}
	return c
}

func (c *Control) who(t records.Token) whoAmI {
	w := whoAmI{Name: t.Name, Node: c.node.Name()}
	for _, r := range t.Rights {
		w.Rights = append(w.Rights, string(r))
	}
	return w
}
