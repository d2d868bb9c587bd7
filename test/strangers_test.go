package test

import (
	"bufio"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gerastic.example/client"
	"gerastic.example/client/protocol"

	"gerastic/internal/cli"
	"gerastic/internal/detect"
	"gerastic/internal/node"
)

// TestControlAnswersToItsOwnNames: a stranger's page whose name leads here is not of the
// console's origin. Whoever asks for health may know only an address.
func TestControlAnswersToItsOwnNames(t *testing.T) {
	n := startNode(t, node.Settings{Name: "named", Data: t.TempDir(), Database: database(t, "named"), AdminToken: "a token of the test", ControlHosts: []string{"Console.Ostrel.Example"}})
	_, port, _ := strings.Cut(strings.TrimPrefix(n.ControlURL(), "http://"), ":")
	for host, status := range map[string]int{
		"127.0.0.1:" + port: 200, "localhost:" + port: 200, "[::1]:" + port: 200, "10.1.2.3": 200, "console.ostrel.example": 200, "CONSOLE.ostrel.example.:" + port: 200,
		"evil.example:" + port: 421, "console.ostrel.example.evil.example": 421, "localhost.evil.example": 421, "127.0.0.1.evil.example": 421,
	} {
		for _, path := range []string{"/v1/nodes", "/v1/fragments/x?namespace=a", "/metrics", "/"} {
			got := fetch(t, "GET", n.ControlURL()+path, "", "Host: "+host, "Authorization: Bearer a token of the test").status
			if status == 421 {
				assert.Equal(t, 421, got, "%s %s", host, path)
			} else {
				assert.NotEqual(t, 421, got, "%s %s", host, path)
			}
		}
		assert.Equal(t, 200, fetch(t, "GET", n.ControlURL()+"/healthz", "", "Host: "+host).status)
	}
	_, err := node.Start(ctx, node.Settings{Name: "bad", Data: t.TempDir(), Database: "postgres://x", Memory: 16 << 20, ControlHosts: []string{"https://console.example"}, Log: slog.New(slog.DiscardHandler)})
	assert.ErrorContains(t, err, "without scheme and port")
}

// TestTheConsolesSessionStaysOnControl: the application behind the edge does not see it, nor
// is anything told apart by it; it gives nobody what applications have stored.
func TestTheConsolesSessionStaysOnControl(t *testing.T) {
	in := fetch(t, "POST", company.Node.ControlURL()+"/v1/session", `{"token":"`+company.Token+`"}`, "Content-Type: application/json")
	session := strings.Split(in.header.Get("Set-Cookie"), ";")[0]
	var seen []string
	origin := func(w http.ResponseWriter, r *http.Request) {
		seen = append(seen, r.Header.Get("Cookie"))
		w.Header().Set("Cache-Control", "max-age=60")
	}
	n := before(t, origin)
	secure := "__Host-" + session
	for i, cookie := range []string{session, secure, "a=1; " + session + "; b=2", session + "; " + session} {
		fetch(t, "GET", fmt.Sprintf("%s/page/%d", n.EdgeURL(), i), "", "Cookie: "+cookie)
		fetch(t, "POST", n.EdgeURL()+"/page", "", "Cookie: "+cookie)
	}
	assert.Equal(t, []string{"", "", "", "", "", "a=1; b=2", "", ""}, seen)
	assert.True(t, fetch(t, "GET", n.EdgeURL()+"/page/0", "").hit(), "an engineer's visit is like any other")

	tls := fetch(t, "POST", company.Node.ControlURL()+"/v1/session", `{"token":"`+company.Token+`"}`, "Content-Type: application/json", "X-Forwarded-Proto: https")
	assert.Regexp(t, `^__Host-gerastic_session=\w+; Path=/; Max-Age=\d+; HttpOnly; Secure; SameSite=Strict$`, tls.header.Get("Set-Cookie"))
	assert.Equal(t, 200, fetch(t, "GET", company.Node.ControlURL()+"/v1/session", "", "Cookie: "+strings.Split(tls.header.Get("Set-Cookie"), ";")[0]).status)

	// An application stores a page that would run as the console.
	mine := "Authorization: Bearer " + application(t, "hostile")
	at := company.Node.ControlURL() + "/v1/fragments/page"
	lease := "Gerastic-Lease: " + fetch(t, "GET", at, "", mine).header.Get("Gerastic-Lease")
	require.Equal(t, 204, fetch(t, "PUT", at, "<script>steal()</script>", mine, lease, "Cache-Control: max-age=60", "Content-Type: text/html").status)
	for _, path := range []string{"GET /v1/fragments/page?namespace=hostile", "POST /v1/fragments/lookup?namespace=hostile"} {
		method, path, _ := strings.Cut(path, " ")
		got := fetch(t, method, company.Node.ControlURL()+path, "", "Cookie: "+session)
		assert.Equal(t, 401, got.status)
		assert.NotContains(t, got.body, "steal")
	}
	got := fetch(t, "GET", at, "", mine)
	assert.Equal(t, []string{"application/octet-stream", "nosniff", "text/html"}, []string{got.header.Get("Content-Type"), got.header.Get("X-Content-Type-Options"), got.header.Get("Gerastic-Type")})
	assert.Contains(t, got.header.Get("Content-Security-Policy"), "sandbox")
}

// TestSignInsEndNobodyElsesSession, however many there are.
func TestSignInsEndNobodyElsesSession(t *testing.T) {
	reader, err := api().CreateToken(ctx, "many sign-ins", []string{"read"}, "")
	require.NoError(t, err)
	signIn := func(token string) string {
		in := fetch(t, "POST", company.Node.ControlURL()+"/v1/session", `{"token":"`+token+`"}`, "Content-Type: application/json")
		require.Equal(t, 200, in.status)
		return "Cookie: " + strings.Split(in.header.Get("Set-Cookie"), ";")[0]
	}
	works := func(cookie string) bool {
		return fetch(t, "GET", company.Node.ControlURL()+"/v1/session", "", cookie).status == 200
	}
	admin, first := signIn(company.Token), signIn(reader.Secret)
	var last string
	for range 1100 {
		last = signIn(reader.Secret)
	}
	assert.True(t, works(admin))
	assert.True(t, works(last))
	assert.False(t, works(first), "the oldest of the same token goes")
}

// TestNobodyHoldsControlByABodyThatDoesNotCome, with a token or without.
func TestNobodyHoldsControlByABodyThatDoesNotCome(t *testing.T) {
	var wg sync.WaitGroup
	address := strings.TrimPrefix(company.Node.ControlURL(), "http://")
	for request, status := range map[string]int{
		"POST /v1/purges HTTP/1.1\r\nHost: 127.0.0.1\r\nContent-Length: 16000000\r\nContent-Type: application/json\r\n\r\n{":                                            401,
		"POST /v1/session HTTP/1.1\r\nHost: 127.0.0.1\r\nContent-Length: 4000\r\nContent-Type: application/json\r\n\r\n{":                                               408,
		"POST /v1/purges HTTP/1.1\r\nHost: 127.0.0.1\r\nAuthorization: Bearer " + company.Token + "\r\nContent-Length: 4000\r\nContent-Type: application/json\r\n\r\n{": 408,
		"POST /v1/changes HTTP/1.1\r\nHost: 127.0.0.1\r\nContent-Length: 16000000\r\nContent-Type: application/json\r\n\r\n{":                                           401,
		"PUT /v1/fragments/x HTTP/1.1\r\nHost: 127.0.0.1\r\nContent-Length: 16000000\r\n\r\n{":                                                                          401,
		"POST /nowhere HTTP/1.1\r\nHost: 127.0.0.1\r\nTransfer-Encoding: chunked\r\n\r\n5\r\n":                                                                          404,
	} {
		wg.Go(func() {
			conn, err := net.Dial("tcp", address)
			if !assert.NoError(t, err) {
				return
			}
			defer conn.Close()
			_, _ = io.WriteString(conn, request)
			_ = conn.SetReadDeadline(time.Now().Add(20 * time.Second))
			began := time.Now()
			resp, err := http.ReadResponse(bufio.NewReader(conn), nil)
			if assert.NoError(t, err, request) {
				assert.Equal(t, status, resp.StatusCode, request)
				assert.True(t, resp.Close, request)
			}
			if status != 408 {
				assert.Less(t, time.Since(began), 3*time.Second, "it is refused before it is read")
			}
			_, err = io.Copy(io.Discard, conn)
			assert.NoError(t, err, "the connection ends")
		})
	}
	wg.Wait()
}

// TestWhatIsAnnouncedTakesNoRoom: a fill that nobody leased, of bytes that never come.
func TestWhatIsAnnouncedTakesNoRoom(t *testing.T) {
	mine := "Authorization: Bearer " + application(t, "announces")
	fetch(t, "GET", company.Node.EdgeURL()+"/ports", "")
	status := func() client.Node {
		nodes, err := api().Nodes(ctx)
		require.NoError(t, err)
		return nodes[0]
	}
	before := status()
	address := strings.TrimPrefix(company.Node.ControlURL(), "http://")
	for _, lease := range []string{"Gerastic-Lease: made-up", "Gerastic-Lease: " + fetch(t, "GET", company.Node.ControlURL()+"/v1/fragments/big", "", mine).header.Get("Gerastic-Lease")} {
		conn, err := net.Dial("tcp", address)
		require.NoError(t, err)
		defer conn.Close()
		_, _ = fmt.Fprintf(conn, "PUT /v1/fragments/big HTTP/1.1\r\nHost: 127.0.0.1\r\n%s\r\n%s\r\nCache-Control: max-age=60\r\nContent-Length: 30000000\r\nExpect: 100-continue\r\n\r\nbegun", mine, lease)
		resp, err := http.ReadResponse(bufio.NewReader(conn), nil)
		require.NoError(t, err)
		assert.Equal(t, map[bool]int{true: 409, false: 100}[strings.HasSuffix(lease, "made-up")], resp.StatusCode, "the other's body is being read")
	}
	after := status()
	assert.Equal(t, before.Removed["evicted"], after.Removed["evicted"])
	assert.Less(t, after.MemoryUsed-before.MemoryUsed, int64(1<<20))
}

// TestAStoreCallHoldsWhatItMayKeep: a long body without a lease is passed over, of a million
// parts a thousand are kept, and what else is in the call is stored.
func TestAStoreCallHoldsWhatItMayKeep(t *testing.T) {
	mine := "Authorization: Bearer " + application(t, "hoards")
	at := company.Node.ControlURL() + "/v1/fragments/"
	lease := func(key string) string { return fetch(t, "GET", at+key, "", mine).header.Get("Gerastic-Lease") }
	offer := func(key, lease string, body []byte, parts int) []byte {
		o := protocol.Offer{Key: key, Lease: lease, Life: 60, Body: body}
		for i := range parts {
			o.Parts = append(o.Parts, fmt.Sprintf("hoards/part(%d)", i))
		}
		return message(t, o)
	}
	body := slices.Concat(offer("long", "made-up", make([]byte, 3<<20), 1), offer("many", lease("many"), []byte("made of a million"), 400_000), offer("last", lease("last"), []byte("the last"), 1))
	before, err := api().Nodes(ctx)
	require.NoError(t, err)
	got := fetch(t, "POST", at+"store", string(body), mine, "Content-Type: application/cbor-seq")
	require.Equal(t, 200, got.status, got.body)
	assert.Contains(t, got.body, "overtaken")
	assert.Equal(t, 404, fetch(t, "GET", at+"long?lease=0", "", mine).status)
	assert.Equal(t, "made of a million", fetch(t, "GET", at+"many", "", mine).body)
	assert.Equal(t, "the last", fetch(t, "GET", at+"last", "", mine).body)
	after, err := api().Nodes(ctx)
	require.NoError(t, err)
	assert.Less(t, after[0].MemoryUsed-before[0].MemoryUsed, int64(200<<10))
}

// TestTextAtTheDoor: what is not text is refused where engineers send it, and written otherwise
// where it comes from visitors; a visitor's write is never lost for it.
func TestTextAtTheDoor(t *testing.T) {
	token := "Authorization: Bearer " + company.Token
	for _, c := range []struct{ method, path, body string }{
		{"POST", "/v1/purges", `{"tags":["a\u0000b"]}`},
		{"POST", "/v1/purges", "{\"tags\":[\"a\xffb\"]}"},
		{"POST", "/v1/purges", `{"tags":["a"],"reason":"why\u0000"}`},
		{"POST", "/v1/purges", `{"urls":["/caf\u0000"]}`},
		{"POST", "/v1/tokens", `{"name":"a\u0000","rights":["read"]}`},
		{"PUT", "/v1/policy", `{"source":"version: 1 #\u0000"}`},
		{"PUT", "/v1/policy", `{"source":"version: 1","note":"\u0000"}`},
		{"POST", "/v1/changes", `{"kind":"item","op":"delete","before":{"id":"\u0000"}}`},
		{"POST", "/v1/changes/try", `{"kind":"a\u0000","op":"delete","before":{"id":"1"}}`},
		{"GET", "/v1/tags?prefix=%00", ""},
		{"GET", "/v1/tags?prefix=%ff", ""},
		{"GET", "/v1/reports/ratio?route=%00", ""},
		{"DELETE", "/v1/tokens/%00", ""},
		{"GET", "/v1/fragments/%ff?namespace=a", ""},
	} {
		got := fetch(t, c.method, company.Node.ControlURL()+c.path, c.body, token, "Content-Type: application/json")
		assert.Equal(t, 400, got.status, "%s %s %s: %s", c.method, c.path, c.body, got.body)
		assert.Equal(t, "application/problem+json", got.header.Get("Content-Type"))
	}
	assert.Equal(t, 200, fetch(t, "POST", company.Node.ControlURL()+"/v1/purges", `{"tags":["a\\u0000b"]}`, token, "Content-Type: application/json").status, "a backslash, and no NUL")

	url := database(t, "text")
	a := before(t, func(w http.ResponseWriter, _ *http.Request) { w.Header().Set("Cache-Control", "max-age=600") }, url, "a")
	b := before(t, func(w http.ResponseWriter, _ *http.Request) { w.Header().Set("Cache-Control", "max-age=600") }, url, "b")
	raw := func(n *node.Node, method, path string) string {
		conn, err := net.Dial("tcp", strings.TrimPrefix(n.EdgeURL(), "http://"))
		require.NoError(t, err)
		defer conn.Close()
		_, _ = fmt.Fprintf(conn, "%s %s HTTP/1.1\r\nHost: site.example\r\nContent-Length: 0\r\nConnection: close\r\n\r\n", method, path)
		answer, _ := io.ReadAll(conn)
		return string(answer)
	}
	for _, path := range []string{"/caf\xe9", "/caf%E9", "/q?a=\xff", "/\xf0\x9f\x9a\xa2"} {
		raw(b, "GET", path)
		require.Contains(t, raw(b, "GET", path), "gerastic; hit", "%q", path)
		assert.Contains(t, raw(a, "POST", path), "200 OK")
		assert.NotContains(t, raw(b, "GET", path), "gerastic; hit", "the write to %q is known everywhere", path)
	}
}

// TestTerminalsAreToldNothing: names, reasons and URLs that would move a terminal's cursor are
// shown as what they are, in whatever output.
func TestTerminalsAreToldNothing(t *testing.T) {
	hostile := "\x1b]0;owned\x07\u009b31m\u202eevil\x7f"
	_, err := api().Purge(ctx, client.PurgeRequest{Tags: []string{"none " + hostile}, Reason: "reason " + hostile + "\nforged line"})
	require.NoError(t, err)
	_, err = api().CreateToken(ctx, "token "+hostile, []string{"read"}, "")
	require.NoError(t, err)
	fetch(t, "GET", company.Node.EdgeURL()+"/%1b%5b2J", "")
	for _, args := range []string{"purge history", "purge history -o json", "purge history -o csv", "token list", "token list -o json", "explain " + company.Node.EdgeURL() + "/%1b[2J", "purge --tag " + hostile + " --yes", "nonsense" + hostile} {
		var out, errs strings.Builder
		cli.Run(append(strings.Split(args, " "), "--control", company.Node.ControlURL(), "--token", company.Token), &out, &errs)
		for _, said := range []string{out.String(), errs.String()} {
			assert.NotRegexp(t, "[\x00-\x08\x0b-\x1f\x7f\u0080-\u009f\u202e]", said, args)
		}
		if strings.HasSuffix(args, "-o json") {
			var any any
			assert.NoError(t, json.Unmarshal([]byte(out.String()), &any))
			assert.Contains(t, fmt.Sprint(any), hostile, "nothing is lost of it")
		}
		if args == "purge history" {
			assert.NotContains(t, out.String(), "\nforged")
		}
	}
}

// TestWebhooksTellNothingAndTakeACallOnce: a stranger learns no names, and what they overheard
// is of no use to them.
func TestWebhooksTellNothingAndTakeACallOnce(t *testing.T) {
	w := watch(t, `
    - { name: partners, kind: webhook, secret: "`+secret+`" }
    - { name: quiet, kind: webhook }`)
	path := w.node.ControlURL() + "/v1/changes"
	body := `{"kind":"item","op":"create","after":{"id":8,"grp":"y","note":"n"}}`
	now := strconv.FormatInt(time.Now().Unix(), 10)
	signed := []string{"Content-Type: application/json", "Gerastic-Time: " + now, "Gerastic-Signature: " + detect.Sign(secret, now, []byte(body))}
	for _, query := range []string{"", "?source=nobody", "?source=quiet"} {
		for _, headers := range [][]string{nil, {"Gerastic-Signature: x"}, signed, {"Authorization: Bearer guess"}} {
			got := fetch(t, "POST", path+query, body, append(headers, "Content-Type: application/json")...)
			assert.Equal(t, 401, got.status, got.body)
			assert.NotContains(t, got.body, "partners")
			assert.NotContains(t, got.body, "no webhook is named")
		}
	}
	first := fetch(t, "POST", path+"?source=partners", body, signed...)
	require.Equal(t, 200, first.status, first.body)
	w.expect("once", "item:8", "group:y")
	again := fetch(t, "POST", path+"?source=partners", body, signed...)
	assert.Equal(t, 409, again.status)
	assert.Contains(t, again.body, "sign again")
	w.expect("no more")
	later := strconv.FormatInt(time.Now().Unix()-60, 10)
	assert.Equal(t, 200, fetch(t, "POST", path+"?source=partners", body, "Content-Type: application/json", "Gerastic-Time: "+later, "Gerastic-Signature: "+detect.Sign(secret, later, []byte(body))).status)

	var list strings.Builder
	for i := range 3000 {
		fmt.Fprintf(&list, ",%d", i)
	}
	values := "[" + list.String()[1:] + "]"
	reader, err := w.api.CreateToken(ctx, "reader", []string{"read"}, "")
	require.NoError(t, err)
	began := time.Now()
	tried := fetch(t, "POST", path+"/try", `{"kind":"item","op":"create","after":{"id":`+values+`,"grp":`+values+`,"note":"n"}}`, "Authorization: Bearer "+reader.Secret, "Content-Type: application/json")
	assert.Equal(t, 422, tried.status, tried.body)
	assert.Contains(t, tried.body, "more than 1000")
	assert.Less(t, time.Since(began), 3*time.Second)

	policy := fetch(t, "GET", w.node.ControlURL()+"/v1/policy", "", "Authorization: Bearer "+reader.Secret).body
	assert.NotContains(t, policy, secret)
	assert.Contains(t, policy, "(hidden)")
	assert.Contains(t, fetch(t, "GET", w.node.ControlURL()+"/v1/policy", "", "Authorization: Bearer "+w.settings.AdminToken).body, secret)
}

// before starts a node before an origin; on a database of its own, unless one and a name are given.
func before(t *testing.T, origin http.HandlerFunc, shared ...string) *node.Node {
	t.Helper()
	s := node.Settings{Name: "before", Data: t.TempDir(), AdminToken: "a token of the test"}
	if len(shared) == 2 {
		s.Database, s.Name = shared[0], shared[1]
	} else {
		s.Database = database(t, "before")
	}
	app := httptest.NewServer(origin)
	t.Cleanup(app.Close)
	s.PolicyFile = policyFile(t, app.URL)
	return startNode(t, s)
}
