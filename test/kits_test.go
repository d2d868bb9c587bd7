package test

import (
	"bufio"
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gerastic.example/client"
	"gerastic.example/client/protocol"

	"gerastic/internal/node"
)

// kits are the runners of the kits, by language; see clients/conformance.
var kits = map[string][]string{
	"python":  {"/usr/bin/python3", "../clients/python/test/runner.py"},
	"js":      {"node", "../clients/js/test/runner.js"},
	"php":     {"php", "../clients/php/test/runner.php"},
	"ruby":    {"ruby", "../clients/ruby/test/runner.rb"},
	"asyncio": {"/usr/bin/python3", "../clients/python/test/runner.py", "", "", "--aio"},
}

// kit is a process that does what it is told with the kit of a language.
type kit struct {
	t    *testing.T
	name string
	in   io.WriteCloser
	out  *bufio.Reader
}

func startKit(t *testing.T, language, control, token string) *kit {
	args := slices.Clone(kits[language])
	if len(args) < 4 {
		args = append(args, "", "")
	}
	args[2], args[3] = control, token
	p := exec.Command(args[0], args[1:]...)
	p.Stderr = os.Stderr
	in, err := p.StdinPipe()
	require.NoError(t, err)
	out, err := p.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, p.Start())
	t.Cleanup(func() {
		in.Close()
		_ = p.Wait()
	})
	return &kit{t, language, in, bufio.NewReader(out)}
}

type told = map[string]any

// does tells the kit to do something, and returns its answer.
func (k *kit) does(what string, with told) told {
	ask := told{"do": what}
	maps.Copy(ask, with)
	line, err := json.Marshal(ask)
	require.NoError(k.t, err)
	_, err = k.in.Write(append(line, '\n'))
	require.NoError(k.t, err)
	text, err := k.out.ReadString('\n')
	require.NoError(k.t, err, "%s: %s", k.name, line)
	var answer told
	require.NoError(k.t, json.Unmarshal([]byte(text), &answer), text)
	return answer
}

// TestKitsReadAndWriteTheSame: the vectors, in every language.
func TestKitsReadAndWriteTheSame(t *testing.T) {
	var v map[string][]told
	text, err := os.ReadFile("../clients/conformance/vectors.json")
	require.NoError(t, err)
	var loose map[string]json.RawMessage
	require.NoError(t, json.Unmarshal(text, &loose))
	v = map[string][]told{}
	words := map[string][]string{}
	for name, part := range loose {
		var rows []told
		if json.Unmarshal(part, &rows) == nil {
			v[name] = rows
			continue
		}
		var list []string
		require.NoError(t, json.Unmarshal(part, &list), name)
		words[name] = list
	}
	for _, c := range v["validators"] { // in Go
		w, r := httptest.NewRecorder(), httptest.NewRequest("GET", "/", nil)
		r.Header.Set("If-Modified-Since", "Sun, 17 May 2026 06:00:00 GMT")
		var at time.Time
		if text, ok := c["modified"].(string); ok {
			at, err = time.Parse(time.RFC3339, text)
			require.NoError(t, err)
		}
		parts := []any{}
		for _, part := range c["parts"].([]any) {
			if n, ok := part.(float64); ok {
				part = int(n)
			}
			parts = append(parts, part)
		}
		same, err := client.Unchanged(w, r, at, parts...)
		require.NoError(t, err)
		assert.Equal(t, c["modified"] != nil, same)
		etag := fmt.Sprintf("\"%x\"", sha256.Sum256([]byte(c["etag"].(string))))[:33] + `"`
		assert.Equal(t, etag, w.Header().Get("ETag"))
		r.Header.Set("If-None-Match", `"x", W/`+etag)
		same, err = client.Unchanged(w, r, at, parts...)
		require.NoError(t, err)
		assert.True(t, same)
	}
	for language := range kits {
		t.Run(language, func(t *testing.T) {
			k := startKit(t, language, "http://127.0.0.1:1", "a token")
			for _, c := range v["keys"] {
				assert.Equal(t, c["key"], k.does("key", c)["key"])
			}
			for _, c := range v["bad_keys"] {
				assert.NotEmpty(t, k.does("key", c)["error"], c)
			}
			for _, c := range v["times"] {
				assert.Equal(t, c["seconds"], k.does("seconds", c)["seconds"], c)
			}
			for _, bad := range words["bad_times"] {
				assert.Contains(t, k.does("seconds", told{"time": bad})["error"], "no length of time", bad)
			}
			for _, c := range v["cbor"] {
				assert.Equal(t, c["hex"], k.does("encode", c)["hex"], c)
				assert.Equal(t, c["value"], k.does("decode", c)["value"], c)
			}
			for _, bad := range words["bad_cbor"] {
				assert.NotEmpty(t, k.does("decode", told{"hex": bad})["error"], bad)
			}
			for _, c := range v["fields"] {
				assert.Equal(t, c["field"], k.does("quoted", c)["field"])
			}
			for _, c := range v["validators"] {
				etag := fmt.Sprintf("\"%x\"", sha256.Sum256([]byte(c["etag"].(string))))[:33] + `"`
				headers := k.does("unchanged", c)["headers"].(told)
				assert.Equal(t, etag, headers["ETag"])
				assert.Equal(t, c["last_modified"], headers["Last-Modified"])
				for given, same := range map[string]bool{etag: true, "W/" + etag: true, `"x", ` + etag: true, "*": true, `"x"`: false, "": false} {
					c["headers"] = told{"if-none-match": given}
					assert.Equal(t, same, k.does("unchanged", c)["unchanged"], given)
				}
				c["headers"] = told{"If-Modified-Since": "Sun, 17 May 2026 06:00:00 GMT"}
				assert.Equal(t, c["modified"] != nil, k.does("unchanged", c)["unchanged"])
			}
		})
	}
}

// TestKitsShareFragments: what one language stores, all others find; one fills however many processes miss;
// a purge overtakes a fill; errors are raised and not stored.
func TestKitsShareFragments(t *testing.T) {
	t.Parallel()
	site := httptest.NewServer(http.NotFoundHandler())
	defer site.Close()
	n := startNode(t, node.Settings{Name: "a", Data: t.TempDir(), Origin: site.URL, AdminToken: "kits-share-fragments"})
	made, err := client.New(n.ControlURL(), "kits-share-fragments").CreateToken(ctx, "shop", []string{"fragments", "purge"}, "shop")
	require.NoError(t, err)
	own := client.New(n.ControlURL(), made.Secret).Fragments(client.FragmentOptions{})
	running := map[string]*kit{}
	for language := range kits {
		running[language] = startKit(t, language, n.ControlURL(), made.Secret)
	}
	languages := slices.Sorted(maps.Keys(kits))
	item := func(name string, parts ...any) told {
		return told{"name": name, "parts": parts, "lifetime": "1h", "tags": []string{"tag:" + name}}
	}
	for i, language := range languages {
		k := running[language]
		answer := k.does("fill", told{"item": item("card", language), "body": "<p>Ærø</p>"})
		assert.Equal(t, told{"value": "<p>Ærø</p>", "filled": 1.0, "headers": answer["headers"]}, answer)
		headers := answer["headers"].(told)
		assert.Equal(t, `"tag:card"`, headers["Cache-Groups"])
		assert.Contains(t, headers["Gerastic-Parts"], "found=filled")
		for _, other := range languages {
			for range 2 { // its body comes, and then only that it is the same
				again := running[other].does("fill", told{"item": item("card", language), "body": "other"})
				assert.Equal(t, []any{"<p>Ærø</p>", 0.0}, []any{again["value"], again["filled"]}, "%s finds what %s stored", other, language)
				headers := again["headers"].(told)
				assert.Contains(t, headers["Gerastic-Parts"], "found=reused")
				assert.Equal(t, `"tag:card"`, headers["Cache-Groups"])
				assert.Regexp(t, `^3(600|59\d)\.\d{3};as-of=\d+$`, headers["Gerastic-Life"])
			}
		}
		body, err := own.LoadOrFill(ctx, client.Fragment{Name: "card", Parts: []any{language}, Lifetime: time.Hour}, func(context.Context) ([]byte, error) { return []byte("go"), nil })
		require.NoError(t, err)
		assert.Equal(t, "<p>Ærø</p>", string(body))

		outer := k.does("fill", told{"item": item("outer", language), "inner": item("inner", language), "body": "outer-"})
		assert.Equal(t, "outer-inner", outer["value"])
		assert.Equal(t, `"tag:outer", "tag:inner"`, outer["headers"].(told)["Cache-Groups"], "tags go up")
		k.does("purge", told{"order": told{"tags": []string{"tag:inner"}}})
		assert.Equal(t, 1.0, k.does("fill", told{"item": item("outer", language), "inner": item("inner", language), "body": "outer-"})["filled"], "and purges reach what holds it")

		failed := k.does("fill", told{"item": item("bad", language), "body": "", "fail": "the fill failed"})
		assert.Equal(t, "the fill failed", failed["error"])
		assert.Equal(t, "better", k.does("fill", told{"item": item("bad", language), "body": "better"})["value"], "an error is not stored, and its lease is given back")

		many := []told{}
		for j := range 100 {
			many = append(many, item("row", i, j))
		}
		assert.Equal(t, 100.0, k.does("many", told{"items": many})["filled"])
		assert.Equal(t, 0.0, running[languages[(i+1)%len(languages)]].does("many", told{"items": many})["filled"])

		long := strings.Repeat("Ærø ", 10_000)
		assert.Equal(t, true, k.does("store", told{"item": item("long", language), "body": long})["stored"])
		for _, other := range languages {
			assert.Equal(t, long, running[other].does("load", told{"item": item("long", language)})["value"])
		}
		found, err := own.Load(ctx, client.Fragment{Name: "long", Parts: []any{language}})
		require.NoError(t, err)
		assert.Equal(t, long, string(found))
		kept, err := own.Store(ctx, client.Fragment{Name: "stored", Parts: []any{language}, Lifetime: time.Hour}, []byte("by Go"))
		require.NoError(t, err)
		assert.True(t, kept)
		assert.Equal(t, "by Go", k.does("load", told{"item": item("stored", language)})["value"])
		k.does("drop", told{"item": item("long", language)})
		assert.Nil(t, k.does("load", told{"item": item("long", language)})["value"])

		k.does("fill", told{"item": told{"name": "stale", "parts": []any{language}, "lifetime": "1ms", "stale": "1h"}, "body": "old"})
		eventually(t, "it is stale", func() bool {
			return k.does("load", told{"item": told{"name": "stale", "parts": []any{language}}})["value"] == nil
		})
		assert.Equal(t, "old", k.does("fill", told{"item": told{"name": "stale", "parts": []any{language}, "lifetime": "1h", "stale": "1h"}, "body": "new"})["value"], "used stale")
		k.does("settle", nil)
		assert.Equal(t, "new", k.does("fill", told{"item": item("stale", language), "body": "newer"})["value"], "and filled behind")
		for what, says := range map[string]string{`{"name": "x", "parts": []}`: "lifetime", `{"name": "x", "parts": [], "lifetime": "soon"}`: "length of time", `{"name": "x", "parts": [], "lifetime": "1h", "tags": "a"}`: "list",
			`{"name": "x", "parts": [], "lifetime": "1h", "tags": [""]}`: "1 to 1024 bytes", `{"name": "x", "parts": [], "lifetime": "1h", "tags": ["` + strings.Repeat("x", 1025) + `"]}`: "1 to 1024 bytes"} {
			var bad told
			require.NoError(t, json.Unmarshal([]byte(what), &bad))
			answer := k.does("fill", told{"item": bad, "body": "x"})
			assert.Equal(t, []any{"x", 1.0}, []any{answer["value"], answer["filled"]}, "%s: %s is filled all the same", language, what)
			assert.Contains(t, k.does("warned", nil)["lines"].([]any)[0], says)
		}
	}

	// One fills for all.
	var all sync.WaitGroup
	fills := make([]float64, len(languages))
	for i, language := range languages {
		all.Go(func() {
			answer := running[language].does("fill", told{"item": item("together"), "body": "same", "sleep_ms": 300})
			assert.Equal(t, "same", answer["value"])
			fills[i] = answer["filled"].(float64)
		})
	}
	all.Wait()
	sum := 0.0
	for _, n := range fills {
		sum += n
	}
	assert.Equal(t, 1.0, sum)

	// A purge overtakes a fill.
	for _, language := range languages {
		done := make(chan told)
		go func() {
			done <- running[language].does("fill", told{"item": item("slow", language), "body": "from before", "sleep_ms": 600})
		}()
		eventually(t, "it is being filled", func() bool { return n.Fragments().Leases.Len() > 0 })
		_, err := client.New(n.ControlURL(), made.Secret).Purge(ctx, client.PurgeRequest{Tags: []string{"tag:slow"}})
		require.NoError(t, err)
		assert.Equal(t, "from before", (<-done)["value"], "this once")
		assert.Nil(t, running[language].does("load", told{"item": item("slow", language)})["value"], "and not stored")
	}
}

// TestKitsDoTheSame: what each kit has besides finding and filling.
func TestKitsDoTheSame(t *testing.T) {
	t.Parallel()
	site := httptest.NewServer(http.NotFoundHandler())
	defer site.Close()
	n := startNode(t, node.Settings{Name: "a", Data: t.TempDir(), Origin: site.URL, AdminToken: "kits-do-the-same-things"})
	admin := client.New(n.ControlURL(), "kits-do-the-same-things")
	for language := range kits {
		t.Run(language, func(t *testing.T) {
			t.Parallel()
			made, err := admin.CreateToken(ctx, language, []string{"fragments", "purge"}, language)
			require.NoError(t, err)
			k := startKit(t, language, n.ControlURL(), made.Secret)
			asked := func(name string) (requests int64) {
				report, err := admin.Ratio(ctx, client.RatioQuery{Since: "1h", By: "total", Route: language + "/" + name})
				require.NoError(t, err)
				return report.Total.Requests
			}

			assert.Equal(t, "of thing:1", k.does("thing", told{"item": told{"name": "thing", "parts": []any{1, []any{2, "x"}}, "lifetime": "1h"}, "tags": []string{"thing:1"}})["value"])
			list, err := admin.Entries(ctx, client.EntryQuery{Key: language + `/thing(1,[2,"x"]`})
			require.NoError(t, err)
			require.Len(t, list.Entries, 1, "a thing says its key")
			assert.Equal(t, "thing:1", list.Entries[0].Tags[0].Tag, "and its tags")

			once := k.does("twice", told{"item": told{"name": "twice", "lifetime": "1h"}})
			assert.Equal(t, "once", once["value"])
			assert.Contains(t, once["report"], "1 reused, 1 filled")
			assert.EqualValues(t, 1, asked("twice"), "the same fragment costs a page one trip")
			k.does("twice", told{"item": told{"name": "purged", "lifetime": "1h"}, "purge": true})
			assert.EqualValues(t, 2, asked("purged"), "unless a purge was ordered meanwhile")

			for range 2 {
				assert.Nil(t, k.does("nothing", told{"item": told{"name": "nothing", "lifetime": "1h"}})["value"])
				assert.Nil(t, k.does("nothing", told{"item": told{"name": "known", "lifetime": "1h", "nothing": "1h"}})["value"])
			}
			assert.Equal(t, []any{0.0, 1.0}, []any{hitRatio(t, admin, language+"/nothing"), 2 * hitRatio(t, admin, language+"/known")}, "nothing is not stored, unless a life for it is given")

			k.does("load", told{"item": told{"name": "late"}})
			k.does("purge", told{"order": told{"tags": []string{"late"}}})
			late := told{"item": told{"name": "late", "lifetime": "1h", "tags": []string{"late"}}, "body": "from before"}
			assert.Equal(t, false, k.does("store", late)["stored"], "a purge came since it was looked up")
			k.does("load", told{"item": told{"name": "late"}})
			assert.Equal(t, true, k.does("store", late)["stored"])

			assert.Equal(t, "worked", k.does("work", told{"item": told{"name": "work", "lifetime": "1h"}})["value"])
			k.does("load", told{"item": told{"name": "work"}})
			savings, err := admin.Savings(ctx, client.SavingsQuery{Since: "1h", Route: language + "/work", Prices: []string{"queries=0.5"}})
			require.NoError(t, err)
			require.Len(t, savings.Rows, 1)
			assert.Equal(t, map[string]client.WorkAmount{"queries": {Spent: 2, Saved: 2}, "rows": {Spent: 10, Saved: 10}}, savings.Rows[0].Work)
			assert.Equal(t, 1.0, *savings.Rows[0].MoneySaved)

			first := k.does("request", nil)
			headers := headersOf(first)
			assert.Equal(t, []any{200.0, "body", "queries=3", `"web"`, "Sun, 17 May 2026 06:00:00 GMT"}, []any{first["status"], first["body"], headers.Get("Gerastic-Work"), headers.Get("Cache-Groups"), headers.Get("Last-Modified")})
			again := k.does("request", told{"headers": told{"If-None-Match": headers.Get("Etag")}})
			assert.Equal(t, []any{304.0, "", headers.Get("Etag")}, []any{again["status"], again["body"], headersOf(again).Get("Etag")}, "an early answer: %v", again)
			assert.NotContains(t, again["headers"], "Gerastic-Work")

			page := k.does("page", told{"rows": 100, "edition": "a"})
			assert.Contains(t, page["html"], "<li>99a</li>")
			assert.Equal(t, 100.0, page["filled"])
			again = k.does("page", told{"rows": 100, "edition": "a"})
			assert.Equal(t, []any{page["html"], 0.0}, []any{again["html"], again["filled"]})
			assert.EqualValues(t, 200, asked("row"), "in two trips each of which asked for all")
			edited := k.does("page", told{"rows": 100, "edition": "b"})
			assert.Contains(t, edited["html"], "<li>99b</li>", "an edited block shows at once")

			k.does("warned", nil)
			k.does("copied", nil)
			lines := k.does("warned", nil)["lines"].([]any)
			require.Len(t, lines, 1, "two places with one name and another fill, and none of two that do the same")
			assert.Regexp(t, `^the fragment copied is filled in two places, \S+:\d+ and \S+:\d+; give each a name of its own, or share one fill$`, lines[0])
			k.does("clash", told{"item": told{"name": "clash", "lifetime": "1h"}, "bodies": []string{"nynorsk", "dansk"}})
			assert.Contains(t, k.does("warned", nil)["lines"].([]any)[0], "the key clash() leaves something out, likely language: what was there is 'in nynorsk', and a fill made 'in dansk'")
			found, err := admin.Findings(ctx, "1h")
			require.NoError(t, err)
			at := slices.IndexFunc(found, func(f client.Finding) bool { return f.Namespace == language })
			require.GreaterOrEqual(t, at, 0)
			assert.Equal(t, []any{client.FragmentClashes, "clash", "clash()", []string{"in nynorsk", "in dansk"}, "language"}, []any{found[at].Kind, found[at].Name, found[at].Key, found[at].Samples, found[at].Separator})
			assert.Len(t, slices.DeleteFunc(found, func(f client.Finding) bool { return f.Namespace != language }), 1)
		})
	}
}

func hitRatio(t *testing.T, api *client.Client, route string) float64 {
	report, err := api.Ratio(ctx, client.RatioQuery{Since: "1h", By: "total", Route: route})
	require.NoError(t, err)
	return *report.Total.HitRatio
}

// headersOf are the headers of an answer that a kit tells of, by their names in any case.
func headersOf(answer told) http.Header {
	h := http.Header{}
	for name, value := range answer["headers"].(told) {
		h.Set(name, value.(string))
	}
	return h
}

// TestKitsWithoutANode: a node that is not there, hangs, breaks off or lies costs a page no more than a
// moment: it is made as if nothing were stored.
func TestKitsWithoutANode(t *testing.T) {
	t.Parallel()
	hangs, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { hangs.Close() })
	lies := func(body string) string {
		s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { _, _ = io.WriteString(w, body) }))
		t.Cleanup(s.Close)
		return s.URL
	}
	together := func(group map[string]any) string {
		var b bytes.Buffer
		require.NoError(t, protocol.Append(&b, protocol.LookupHead{Namespace: "shop", Stamp: 1}))
		require.NoError(t, protocol.Append(&b, group))
		return lies(b.String())
	}
	breaks := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Length", "1000")
		_, _ = io.WriteString(w, "\xa2")
		w.(http.Flusher).Flush()
		panic(http.ErrAbortHandler)
	}))
	t.Cleanup(breaks.Close)
	for language := range kits {
		for what, control := range map[string]string{"is not there": "http://127.0.0.1:1", "hangs": "http://" + hangs.Addr().String(), "says nothing": lies(""), "is none": lies("<html>"), "says too much": lies("\x9f\xff"), "breaks off": breaks.URL,
			"thinks that we have it": together(map[string]any{"same": []int{0}, "ages": []float64{1}, "lives": []float64{60}}), "thinks that we asked for more": together(map[string]any{"same": []int{0, 1}, "ages": []float64{1, 1}, "lives": []float64{60, 60}}),
			"forgets how old it is": together(map[string]any{"same": []int{0}, "lives": []float64{60}}), "means no place": together(map[string]any{"same": "all", "ages": []float64{1}, "lives": []float64{60}})} {
			t.Run(language+" "+what, func(t *testing.T) {
				t.Parallel()
				k := startKit(t, language, control, "a token")
				k.does("counts", nil) // it has started
				began := time.Now()
				for i := range 3 {
					answer := k.does("fill", told{"item": told{"name": "card", "parts": []any{i}, "lifetime": "1h"}, "body": "made"})
					assert.Equal(t, "made", answer["value"])
					assert.Equal(t, 1.0, answer["filled"])
				}
				assert.Less(t, time.Since(began), 5*time.Second)
				assert.NotZero(t, k.does("counts", nil)["counts"].(told)["failed"])
				assert.NotEmpty(t, k.does("purge", told{"order": told{"tags": []string{"a"}}})["error"], "a purge says that it did not come to be")
			})
		}
	}
}

// TestFragmentsAreSwitchedOffInOnePlace: GERASTIC_FRAGMENTS=off, and nothing is asked; every call fills.
func TestFragmentsAreSwitchedOffInOnePlace(t *testing.T) {
	asked := atomic.Int64{}
	counting := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { asked.Add(1) }))
	defer counting.Close()
	t.Setenv("GERASTIC_FRAGMENTS", "off")
	for language := range kits {
		k := startKit(t, language, counting.URL, "a token")
		for range 2 {
			answer := k.does("fill", told{"item": told{"name": "card", "parts": []any{1}, "lifetime": "1h"}, "body": "made"})
			assert.Equal(t, []any{"made", 1.0}, []any{answer["value"], answer["filled"]}, language)
		}
		assert.Nil(t, k.does("load", told{"item": told{"name": "card", "parts": []any{1}}})["value"])
		assert.Equal(t, false, k.does("store", told{"item": told{"name": "card", "parts": []any{1}, "lifetime": "1h"}, "body": "x"})["stored"])
	}
	own := client.New(counting.URL, "a token").Fragments(client.FragmentOptions{})
	body, err := own.LoadOrFill(ctx, client.Fragment{Name: "card", Lifetime: time.Hour}, func(context.Context) ([]byte, error) { return []byte("made"), nil })
	require.NoError(t, err)
	assert.Equal(t, "made", string(body))
	found, err := own.Load(ctx, client.Fragment{Name: "card"})
	require.NoError(t, err)
	assert.Nil(t, found)
	assert.Zero(t, asked.Load())
}

// TestTheFirstExamplesOfTheKits: what the documentation shows first does what it says.
func TestTheFirstExamplesOfTheKits(t *testing.T) {
	site := httptest.NewServer(http.NotFoundHandler())
	defer site.Close()
	n := startNode(t, node.Settings{Name: "a", Data: t.TempDir(), Origin: site.URL, AdminToken: "first-examples-of-kits"})
	made, err := client.New(n.ControlURL(), "first-examples-of-kits").CreateToken(ctx, "shop", []string{"fragments"}, "shop")
	require.NoError(t, err)
	docs, err := os.ReadFile("../docs/fragments.md")
	require.NoError(t, err)
	for language, k := range map[string]struct{ begins, ends string }{
		"python": {"token, render_card = %q, lambda number: f\"<p>{number}</p>\"\n", "print(card)\n"},
		"js":     {"const token = %q, renderCard = (number) => `<p>${number}</p>`\n", "console.log(card)\n"},
		"php":    {"$token = '%s'; function renderCard($number) { return \"<p>$number</p>\"; }\n", "echo $card, \"\\n\";"},
		"ruby":   {"token = %q\ndef render_card(number) = \"<p>#{number}</p>\"\n", "puts card\n"},
	} {
		_, block, found := strings.Cut(string(docs), "```"+language+"\n")
		require.True(t, found, language)
		block, _, _ = strings.Cut(block, "```")
		assert.Len(t, strings.Split(strings.TrimSpace(block), "\n"), 3, "an example of three lines")
		code := fmt.Sprintf(k.begins, made.Secret) + strings.ReplaceAll(block, "http://127.0.0.1:8490", n.ControlURL()) + k.ends
		if language == "php" {
			use, rest, _ := strings.Cut(code[strings.Index(code, "use "):], "\n")
			code = use + "\nrequire 'clients/php/autoload.php';\n" + code[:strings.Index(code, "use ")] + rest
		}
		code = strings.Replace(code, "from 'gerastic'", "from './clients/js/gerastic.js'", 1)
		p := exec.Command(kits[language][0], append(map[string][]string{"js": {"--input-type=module"}}[language], map[string]string{"python": "-c", "ruby": "-e", "php": "-r", "js": "-e"}[language], code)...)
		p.Dir = ".."
		p.Env = append(os.Environ(), "PYTHONPATH=clients/python", "RUBYLIB=clients/ruby/lib")
		out, err := p.CombinedOutput()
		require.NoError(t, err, string(out))
		assert.Equal(t, "<p>3</p>\n", string(out))
	}
}
