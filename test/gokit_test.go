package test

import (
	"bytes"
	"context"
	"fmt"
	"html/template"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"gerastic.example/client"

	"gerastic/internal/node"
)

// berth is a thing that says its own key.
type berth struct {
	ID   int
	Name string
}

func (b berth) FragmentKey() client.Fragment {
	return client.Fragment{Name: "berth", Parts: []any{b.ID, []any{"list", 2}}, Version: 3, Lifetime: time.Hour}
}

func (b berth) FragmentTags() []string { return []string{fmt.Sprint("berth:", b.ID)} }

// said collects what the log was told.
type said struct {
	mu    sync.Mutex
	lines bytes.Buffer
}

func (s *said) Write(p []byte) (int, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.lines.Write(p)
}

func (s *said) String() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.lines.String()
}

// TestTheGoKitDoesTheSame as those of the other languages, see TestKitsDoTheSame.
func TestTheGoKitDoesTheSame(t *testing.T) {
	t.Parallel()
	site := httptest.NewServer(http.NotFoundHandler())
	defer site.Close()
	n := startNode(t, node.Settings{Name: "a", Data: t.TempDir(), Origin: site.URL, AdminToken: "the-go-kit-does-the-same"})
	admin := client.New(n.ControlURL(), "the-go-kit-does-the-same")
	made, err := admin.CreateToken(ctx, "go", []string{"fragments", "purge"}, "go")
	require.NoError(t, err)
	log := &said{}
	own := client.New(n.ControlURL(), made.Secret)
	s := own.Fragments(client.FragmentOptions{Log: slog.New(slog.NewTextHandler(log, nil)), Lifetime: time.Hour, Tags: []string{"all"}})
	text := func(body string) func(context.Context) ([]byte, error) {
		return func(context.Context) ([]byte, error) { return []byte(body), nil }
	}

	body, err := s.Of(ctx, berth{ID: 7}, text("of the quay"))
	require.NoError(t, err)
	assert.Equal(t, "of the quay", string(body))
	list, err := admin.Entries(ctx, client.EntryQuery{Key: `berth(7,["list",2])@3`})
	require.NoError(t, err)
	require.Len(t, list.Entries, 1)
	assert.Equal(t, []client.EntryTag{{Tag: "all", From: "application"}, {Tag: "berth:7", From: "application"}}, list.Entries[0].Tags)

	w := httptest.NewRecorder()
	client.Tagging(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		client.Did(r.Context(), "queries", 3)
		for range 2 {
			body, err = s.LoadOrFill(r.Context(), client.Fragment{Name: "once"}, func(ctx context.Context) ([]byte, error) {
				client.Did(ctx, "queries", 2)
				return []byte("once"), nil
			})
			require.NoError(t, err)
			assert.Equal(t, "once", string(body))
		}
		_, err := s.Drop(r.Context(), client.Fragment{Name: "once"})
		require.NoError(t, err)
		body, err = s.LoadOrFill(r.Context(), client.Fragment{Name: "once"}, text("again"))
		require.NoError(t, err)
		assert.Equal(t, "again", string(body), "what was dropped is not at hand any more")
		_, err = own.Purge(ctx, client.PurgeRequest{Tags: []string{"something else"}})
		require.NoError(t, err)
		_, err = s.LoadOrFill(r.Context(), client.Fragment{Name: "once"}, notAgain)
		require.NoError(t, err)
	})).ServeHTTP(w, httptest.NewRequest("GET", "/", nil))
	assert.Contains(t, w.Header().Get("Server-Timing"), "2 reused, 2 filled")
	assert.Equal(t, "queries=3", w.Header().Get("Gerastic-Work"), "a page counts its own work, and not that of its fragments")
	savings, err := admin.Savings(ctx, client.SavingsQuery{Since: "1h", Route: "go/once"})
	require.NoError(t, err)
	assert.Equal(t, client.WorkAmount{Spent: 2, Saved: 0}, savings.Rows[0].Work["queries"])
	assert.EqualValues(t, 3, savings.Rows[0].Requests, "the same fragment costs a page one trip, unless a purge was ordered meanwhile")

	for range 3 { // the third time the node says that the process has it
		body, err = s.LoadOrFill(ctx, client.Fragment{Name: "known", Nothing: time.Hour}, func(context.Context) ([]byte, error) { return nil, client.ErrNothing })
		require.NoError(t, err)
		assert.Nil(t, body)
		body, err = s.LoadOrFill(ctx, client.Fragment{Name: "nothing"}, func(context.Context) ([]byte, error) { return nil, client.ErrNothing })
		require.NoError(t, err)
		assert.Nil(t, body)
	}
	assert.Equal(t, []float64{2. / 3, 0}, []float64{hitRatio(t, admin, "go/known"), hitRatio(t, admin, "go/nothing")})

	late := client.Fragment{Name: "late", Tags: []string{"late"}}
	_, err = s.Load(ctx, late)
	require.NoError(t, err)
	_, err = own.Purge(ctx, client.PurgeRequest{Tags: []string{"late"}})
	require.NoError(t, err)
	for _, want := range []bool{false, true} {
		kept, err := s.Store(ctx, late, []byte("from before"))
		require.NoError(t, err)
		assert.Equal(t, want, kept, "a purge came since it was looked up")
		_, err = s.Load(ctx, late)
		require.NoError(t, err)
	}
	s.Settle()
	assert.Empty(t, log.String())
}

// TestTheGoKitNoticesWrongKeys: three planted ones, and none of correct pages.
func TestTheGoKitNoticesWrongKeys(t *testing.T) {
	t.Parallel()
	site := httptest.NewServer(http.NotFoundHandler())
	defer site.Close()
	n := startNode(t, node.Settings{Name: "a", Data: t.TempDir(), Origin: site.URL, AdminToken: "the-go-kit-notices-keys"})
	admin := client.New(n.ControlURL(), "the-go-kit-notices-keys")
	log := &said{}
	s := admin.Fragments(client.FragmentOptions{Namespace: "go", Check: 1, Lifetime: time.Hour, Log: slog.New(slog.NewTextHandler(log, nil))})
	load := func(name string, parts []any, made func() string) {
		_, err := s.LoadOrFill(ctx, client.Fragment{Name: name, Parts: parts}, func(context.Context) ([]byte, error) { return []byte(made()), nil })
		require.NoError(t, err)
	}
	times := 0
	for i, language := range []string{"nynorsk", "dansk"} {
		load("language", nil, func() string { return "in " + language })
		load("item", []any{"all"}, func() string { return fmt.Sprint("item ", i) })
		load("correct", []any{language}, func() string { return "in " + language })
		load("clock", nil, func() string { times++; return fmt.Sprint("made at ", times) })
		_, err := s.LoadOrFillAll(ctx, []client.Fragment{{Name: "rows"}, {Name: "rows"}}, func(_ context.Context, at int) ([]byte, error) { return fmt.Append(nil, "row ", at), nil })
		require.NoError(t, err)
	}
	_, err := s.LoadOrFill(ctx, client.Fragment{Name: "copied"}, func(context.Context) ([]byte, error) { return []byte("one" + "text"), nil })
	require.NoError(t, err)
	_, err = s.LoadOrFill(ctx, client.Fragment{Name: "copied", Parts: []any{2}}, func(context.Context) ([]byte, error) { return []byte("another" + "text"), nil })
	require.NoError(t, err)
	for _, number := range []int{1, 2} { // in two places that do the same
		if number == 1 {
			_, err = s.LoadOrFill(ctx, client.Fragment{Name: "same", Parts: []any{1}}, func(context.Context) ([]byte, error) { return fmt.Append(nil, "same ", 1), nil })
		} else {
			_, err = s.LoadOrFill(ctx, client.Fragment{Name: "same", Parts: []any{2}}, func(context.Context) ([]byte, error) { return fmt.Append(nil, "same ", 2), nil })
		}
		require.NoError(t, err)
	}
	s.Settle()
	assert.Equal(t, 1, strings.Count(log.String(), "filled in two places"), log.String())
	assert.Contains(t, log.String(), "the fragment copied is filled in two places")
	found, err := admin.Findings(ctx, "1h")
	require.NoError(t, err)
	var names []string
	for _, f := range found {
		names = append(names, f.Name)
	}
	slices.Sort(names)
	assert.Equal(t, []string{"item", "language", "rows"}, names)
}

// TestTemplatesOfLists: one round trip, and an edited block is made anew, alone.
func TestTemplatesOfLists(t *testing.T) {
	s := fragmentsFor(t, "lists")
	berths := []berth{{1, "North <quay>"}, {2, "South quay"}}
	type row struct{ ID int }
	var executed atomic.Int64
	show := func(edition string) string {
		executed.Store(0)
		var pages *template.Template
		pages = template.Must(template.New("").Funcs(s.Templates(func() *template.Template { return pages })).Funcs(template.FuncMap{"count": func() string { executed.Add(1); return "" }}).Parse(
			`{{define "page"}}{{fragments .Context "berth" .Berths}}{{fragments .Context "row" .Rows (parts "ID") (lifetime "1h") (tags "lists:{ID}")}}{{end}}` +
				`{{define "berth"}}{{count}}<b>{{.Data.Name}}</b>{{end}}{{define "row"}}{{count}}<i>{{.Data.ID}}` + edition + `</i>{{end}}`))
		var b bytes.Buffer
		require.NoError(t, pages.ExecuteTemplate(&b, "page", map[string]any{"Context": ctx, "Berths": berths, "Rows": []row{{1}, {2}, {3}}}))
		return b.String()
	}
	assert.Equal(t, "<b>North &lt;quay&gt;</b><b>South quay</b><i>1a</i><i>2a</i><i>3a</i>", show("a"))
	assert.EqualValues(t, 5, executed.Load())
	show("a")
	assert.Zero(t, executed.Load(), "another process, or the next start, finds what this one made")
	assert.Contains(t, show("b"), "<i>3b</i>")
	assert.EqualValues(t, 3, executed.Load(), "only what was edited")
}

// TestFragmentsAreWatched: what becomes of them, as it happens, and which of them are wanted.
func TestFragmentsAreWatched(t *testing.T) {
	s := fragmentsFor(t, "watched")
	life, end := context.WithCancel(ctx)
	events := make(chan client.FragmentEvent, 100)
	var watching sync.WaitGroup
	defer watching.Wait()
	defer end()
	stands := company.Node.FragmentWatchers().Count()
	for _, f := range []client.WatchFilter{{Route: "watched/row"}, {Route: "watched/row", Outcome: "dropped", Path: "row(9"}} {
		watching.Go(func() {
			_ = api().WatchFragments(life, f, func(e client.FragmentEvent) error {
				events <- e
				return nil
			})
		})
	}
	eventually(t, "both watch", func() bool { return company.Node.FragmentWatchers().Count() == stands+2 })
	row := func(n int) client.Fragment { return client.Fragment{Name: "row", Parts: []any{n}, Lifetime: time.Hour} }
	next := func(outcome, key string) {
		t.Helper()
		select {
		case e := <-events:
			assert.Equal(t, []any{"watched", outcome, key}, []any{e.Namespace, e.Outcome, e.Key})
			assert.Equal(t, outcome != "dropped", e.Bytes > 0 && e.TookMS >= 0)
			assert.WithinDuration(t, time.Now(), e.At, time.Minute)
		case <-time.After(10 * time.Second):
			t.Fatalf("no event tells that %s was %s", key, outcome)
		}
	}
	load := func(n int, fill func(context.Context) ([]byte, error)) {
		_, err := s.LoadOrFill(ctx, row(n), fill)
		require.NoError(t, err)
	}
	load(1, text("one"))
	next("filled", "row(1)")
	load(1, notAgain)
	next("found", "row(1)")
	_, err := s.Store(ctx, row(2), []byte("two"))
	require.NoError(t, err)
	next("stored", "row(2)")
	under, goOn := make(chan struct{}), make(chan struct{})
	var both sync.WaitGroup
	both.Go(func() {
		load(3, func(context.Context) ([]byte, error) {
			close(under)
			<-goOn
			return []byte("three"), nil
		})
	})
	<-under
	other := fragmentsFor(t, "watched")
	both.Go(func() {
		_, err := other.LoadOrFill(ctx, row(3), notAgain)
		assert.NoError(t, err)
	})
	time.Sleep(50 * time.Millisecond) // so that it waits; if it comes later, it is found
	close(goOn)
	both.Wait()
	outcomes := []string{}
	for range 2 { // in whatever order they are told
		select {
		case e := <-events:
			assert.Equal(t, "row(3)", e.Key)
			outcomes = append(outcomes, e.Outcome)
		case <-time.After(10 * time.Second):
			t.Fatal("no event tells of who filled, or waited")
		}
	}
	assert.Contains(t, outcomes, "filled")
	assert.True(t, slices.Contains(outcomes, "waited") || slices.Contains(outcomes, "found"), outcomes)
	_, err = s.Drop(ctx, row(9))
	require.NoError(t, err)
	next("dropped", "row(9)")
	next("dropped", "row(9)") // to each that wants it
	_, err = s.Drop(ctx, row(1))
	require.NoError(t, err)
	next("dropped", "row(1)")
	assert.Empty(t, events)
	assert.Error(t, api().WatchFragments(ctx, client.WatchFilter{Outcome: "hit"}, func(client.FragmentEvent) error { return nil }), "hit is an outcome of requests")
}
