package client_test

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"time"

	"gerastic.example/client"
)

// A page says what it shows, so that a purge of one of the tags takes it.
func ExampleTag() {
	page := client.Tagging(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		client.Tag(r.Context(), "port:tholm", "notices")
		fmt.Fprint(w, "Tholm")
	}))
	w := httptest.NewRecorder()
	page.ServeHTTP(w, httptest.NewRequest("GET", "/ports/tholm", nil))
	fmt.Println(w.Header().Get("Cache-Groups"))
	// Output: "port:tholm", "notices"
}

// Each value of a key reads one way only.
func ExampleFragment_Key() {
	f := client.Fragment{Name: "row", Parts: []any{"tholm", 7}, Version: time.Date(2026, 5, 17, 6, 0, 0, 0, time.UTC)}
	key, err := f.Key()
	fmt.Println(key, err)
	// Output: row("tholm",7)@t"2026-05-17T06:00:00Z" <nil>
}

// A fragment is made where it is missing, and also while no node can be reached.
func ExampleFragments_LoadOrFill() {
	fragments := client.New("http://127.0.0.1:1", "a token").Fragments(client.FragmentOptions{})
	card := client.Fragment{Name: "card", Parts: []any{3}, Lifetime: time.Hour, Tags: []string{"vessel:3"}}
	body, err := fragments.LoadOrFill(context.Background(), card, func(context.Context) ([]byte, error) {
		return []byte("<h2>Petrel Dawn</h2>"), nil
	})
	fmt.Println(string(body), err)
	// Output: <h2>Petrel Dawn</h2> <nil>
}

// When Purge returns, no request is answered from what it names.
func ExampleClient_Purge() {
	node := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		var asked client.PurgeRequest
		_ = json.NewDecoder(r.Body).Decode(&asked)
		_ = json.NewEncoder(w).Encode(client.PurgeResult{Sequence: 41, Mode: asked.Mode, Matched: client.Matched{Entries: 12}})
	}))
	defer node.Close()
	result, err := client.New(node.URL, "a token").Purge(context.Background(), client.PurgeRequest{Tags: []string{"port:tholm"}, Reason: "pier closed"})
	fmt.Println(result.Sequence, result.Matched.Entries, err)
	// Output: 41 12 <nil>
}
