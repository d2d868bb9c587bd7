package frameworks

import (
	"bufio"
	"bytes"
	"context"
	"fmt"
	"io"
	"mime/multipart"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// visitor is a browser of somebody's: with cookies, following redirects.
type visitor struct {
	t    *testing.T
	name string // "" for one who never signs in
	base string
	http *http.Client
}

type answer struct {
	status int
	header http.Header
	body   string
}

func (a answer) hit() bool { return strings.Contains(a.header.Get("Cache-Status"), "gerastic; hit") }

func visitors(t *testing.T, base string) []*visitor {
	var all []*visitor
	for _, name := range []string{"ada", "bo", ""} {
		jar, err := cookiejar.New(nil)
		require.NoError(t, err)
		transport := &http.Transport{}
		t.Cleanup(transport.CloseIdleConnections)
		v := &visitor{t: t, name: name, base: base, http: &http.Client{Jar: jar, Transport: transport, Timeout: 20 * time.Second}}
		if name != "" {
			v.get("/login?as=" + name)
		}
		all = append(all, v)
	}
	return all
}

func (v *visitor) do(r *http.Request) answer {
	resp, err := v.http.Do(r)
	require.NoError(v.t, err)
	defer resp.Body.Close()
	body, err := io.ReadAll(resp.Body)
	require.NoError(v.t, err)
	return answer{resp.StatusCode, resp.Header, string(body)}
}

func (v *visitor) get(path string, headers ...string) answer {
	r, err := http.NewRequest(http.MethodGet, v.base+path, nil)
	require.NoError(v.t, err)
	for _, h := range headers {
		name, value, _ := strings.Cut(h, ": ")
		r.Header.Set(name, value)
	}
	return v.do(r)
}

func (v *visitor) post(path, kind string, body io.Reader) answer {
	r, err := http.NewRequest(http.MethodPost, v.base+path, body)
	require.NoError(v.t, err)
	r.Header.Set("Content-Type", kind)
	return v.do(r)
}

func (v *visitor) hello() string {
	if v.name == "" {
		return "Hello nobody"
	}
	return "Hello " + v.name
}

// TestApplicationsWorkBehindANode: each framework, under each kind of policy, and under what
// is documented for it.
func TestApplicationsWorkBehindANode(t *testing.T) {
	for _, a := range apps {
		t.Run(a.name, func(t *testing.T) {
			t.Parallel()
			origin := a.start(t)
			t.Run("without a node", func(t *testing.T) { // what the others are held against
				t.Parallel()
				all := visitors(t, origin)
				ownPages(t, all)
				formsAndMessages(t, all)
				staticFiles(t, all, false)
				eventStreams(t, all)
				uploads(t, all)
			})
			for name, rules := range policies {
				t.Run(name, func(t *testing.T) {
					t.Parallel()
					edge := behind(t, a, origin, rules)
					all := visitors(t, edge)
					ownPages(t, all)
					if name != keptForEach {
						formsAndMessages(t, all)
						languages(t, edge, a.session, name == "the policy states the life" || name == "as documented")
					}
					staticFiles(t, all, name != "the origin decides" && !a.asks)
					eventStreams(t, all)
					uploads(t, all)
				})
			}
		})
	}
}

// ownPages: those who are signed in, and one who is not, ask for the same page at once.
func ownPages(t *testing.T, all []*visitor) {
	tags := make([]string, len(all))
	for round := range 3 {
		var wg sync.WaitGroup
		for i, v := range all {
			wg.Go(func() {
				var conditions []string
				if round > 1 && tags[i] != "" {
					conditions = []string{"If-None-Match: " + tags[i]}
				}
				a := v.get("/me", conditions...)
				if a.status == http.StatusNotModified {
					assert.NotEmpty(t, conditions)
					return
				}
				assert.Equal(t, v.hello(), a.body, "%s", a.header["Cache-Status"])
				tags[i] = a.header.Get("Etag")
			})
		}
		wg.Wait()
	}
	// What the application answers to somebody's condition, it answers behind a node.
	for i, v := range all {
		for j := range all {
			if tags[j] != "" && v.name != "" {
				got := v.get("/me", "If-None-Match: "+tags[j]).status
				assert.Equal(t, map[bool]int{true: 304, false: 200}[i == j], got, "%q has what %q got", v.name, all[j].name)
			}
		}
	}
}

// formsAndMessages: a form goes through with its token, and its message comes once, to the
// one who sent it.
func formsAndMessages(t *testing.T, all []*visitor) {
	token := func(page string) string {
		_, after, _ := strings.Cut(page, "token=")
		token, _, _ := strings.Cut(after, "\n")
		return token
	}
	tokens := map[string]bool{}
	for _, v := range all {
		form := v.get("/notes")
		mine := token(form.body)
		require.NotEmpty(t, mine, form.body)
		assert.False(t, tokens[mine], "each has a token of their own")
		tokens[mine] = true
		assert.Contains(t, form.body, "flash=\n", "no message yet, nor another's")
		saved := v.post("/notes", "application/x-www-form-urlencoded", strings.NewReader(url.Values{"_csrf": {mine}, "csrf_token": {mine}, "authenticity_token": {mine}, "csrfmiddlewaretoken": {mine}, "text": {"note of " + v.hello()}}.Encode()))
		assert.Equal(t, 200, saved.status, "%s: %s", v.name, saved.body)
		assert.Contains(t, saved.body, "flash=saved note of "+v.hello())
		assert.Contains(t, v.get("/notes").body, "flash=\n", "a message comes once")
		forged := v.post("/notes", "application/x-www-form-urlencoded", strings.NewReader("text=forged&_csrf=wrong"))
		assert.GreaterOrEqual(t, forged.status, 400, "the application's guard still stands")
	}
}

// staticFiles come whole, are confirmed, and are hits where the policy says how long they live.
func staticFiles(t *testing.T, all []*visitor, stated bool) {
	for i, v := range all {
		file := v.get("/static/app.css")
		assert.Contains(t, file.body, "font-family: sans-serif")
		assert.Contains(t, file.header.Get("Content-Type"), "text/css")
		if etag := file.header.Get("Etag"); etag != "" {
			assert.Equal(t, 304, v.get("/static/app.css", "If-None-Match: "+etag).status)
		}
		if i > 0 && stated {
			assert.True(t, file.hit(), "%s", file.header["Cache-Status"])
			assert.Empty(t, file.header["Set-Cookie"])
		}
		if part := v.get("/static/app.css", "Range: bytes=3-8"); part.status == http.StatusPartialContent {
			assert.Equal(t, "Ostrel", part.body)
		} else {
			assert.Equal(t, file.body, part.body, "some applications serve no parts")
		}
	}
}

// languages: an application that looks at Accept-Language and says nothing of it gives all
// who are alike the same page where the policy keeps it, and everybody else their own.
func languages(t *testing.T, edge, session string, stated bool) {
	for _, cookie := range []string{"", session + "=x"} {
		seen := map[string]bool{}
		for _, language := range []string{"nb", "en", "nb"} {
			v := &visitor{t: t, base: edge, http: &http.Client{Transport: &http.Transport{DisableKeepAlives: true}}}
			headers := []string{"Accept-Language: " + language}
			if cookie != "" {
				headers = append(headers, "Cookie: "+cookie)
			}
			a := v.get("/greeting", headers...)
			seen[a.body] = true
			if stated && cookie == "" && a.header["Set-Cookie"] == nil {
				assert.Len(t, seen, 1, "one page, whoever came first: %s", a.header["Cache-Status"])
			} else {
				assert.Equal(t, map[string]string{"nb": "Hei", "en": "Hello"}[language], a.body, "%s", a.header["Cache-Status"])
			}
		}
	}
}

// eventStreams: each has their own, and it ends at the application when they leave.
func eventStreams(t *testing.T, all []*visitor) {
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	for _, v := range all {
		r, err := http.NewRequestWithContext(ctx, http.MethodGet, v.base+"/events", nil)
		require.NoError(t, err)
		r.Header.Set("Accept", "text/event-stream")
		resp, err := v.http.Do(r)
		require.NoError(t, err)
		defer resp.Body.Close()
		lines := bufio.NewReader(resp.Body)
		first, err := lines.ReadString('\n')
		require.NoError(t, err)
		assert.Equal(t, strings.Replace(v.hello(), "Hello", "data: for", 1)+"\n", first)
		for range 3 { // it goes on
			_, err = lines.ReadString('\n')
			require.NoError(t, err)
		}
	}
	cancel()
}

// uploads come whole, over connections that the application may have closed meanwhile.
func uploads(t *testing.T, all []*visitor) {
	for i := range 6 {
		v := all[i%len(all)]
		var form bytes.Buffer
		parts := multipart.NewWriter(&form)
		part, err := parts.CreateFormFile("file", "timetable.txt")
		require.NoError(t, err)
		_, err = part.Write(bytes.Repeat([]byte("tholm to saltern\n"), 20_000))
		require.NoError(t, err)
		require.NoError(t, parts.Close())
		size := 340_000
		if got := v.post("/upload", parts.FormDataContentType(), &form); assert.Equal(t, 200, got.status, got.body) && !strings.Contains(got.body, fmt.Sprint("received ", size)) {
			assert.Regexp(t, `^received 34\d{4}$`, got.body, "the form's parts are counted, too")
		}
	}
}

// TestEventStreamsEndAtTheApplication when their visitors leave: none is left open.
func TestEventStreamsEndAtTheApplication(t *testing.T) {
	for _, a := range apps {
		t.Run(a.name, func(t *testing.T) {
			t.Parallel()
			origin := a.start(t)
			edge := behind(t, a, origin, policies["the policy states the life"])
			ctx, leave := context.WithCancel(context.Background())
			for range 5 {
				r, err := http.NewRequestWithContext(ctx, http.MethodGet, edge+"/events", nil)
				require.NoError(t, err)
				resp, err := http.DefaultClient.Do(r)
				require.NoError(t, err)
				_, err = bufio.NewReader(resp.Body).ReadString('\n')
				require.NoError(t, err)
				defer resp.Body.Close()
			}
			open := func() string {
				resp, err := http.Get(origin + "/open")
				require.NoError(t, err)
				defer resp.Body.Close()
				text, _ := io.ReadAll(resp.Body)
				return string(text)
			}
			assert.Eventually(t, func() bool { return open() == "5" }, 10*time.Second, 50*time.Millisecond)
			leave()
			assert.Eventually(t, func() bool { return open() == "0" }, 10*time.Second, 50*time.Millisecond)
		})
	}
}

// TestPOSTsAfterARest: application servers close connections that rest, at a moment of their
// own; a POST that comes then is not an error of its visitor's.
func TestPOSTsAfterARest(t *testing.T) {
	var all []*visitor
	for _, a := range apps {
		all = append(all, visitors(t, behind(t, a, a.start(t), policies["the origin decides"]))[2])
	}
	for _, rest := range []time.Duration{0, 1990 * time.Millisecond, 2 * time.Second, 4990 * time.Millisecond, 5010 * time.Millisecond} {
		time.Sleep(rest) // it is the origins' clocks that this is about
		for _, v := range all {
			uploads(t, []*visitor{v})
		}
	}
}
