package control

import (
	"encoding/json"
	"fmt"
	"net/http"
	"strconv"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"gerastic.example/client"

	"gerastic/internal/core/fragment"
	"gerastic/internal/records"
)

const (
	mostWanted = 1000
	// wantedEvery is how often it is looked whether something ends.
	wantedEvery = 250 * time.Millisecond
)

// wantedFragments tells an application which of its fragments it should fill; it waits for the first.
func (c *Control) wantedFragments(w http.ResponseWriter, r *http.Request, namespace string) {
	wait, limit, err := wantedBy(r)
	if err != nil {
		problem(w, http.StatusBadRequest, err.Error())
		return
	}
	all := c.awaitWanted(r, namespace, limit, time.Now().Add(wait))
	out := struct {
		Fragments []client.WantedFragment `json:"fragments"`
	}{[]client.WantedFragment{}}
	for _, id := range all {
		out.Fragments = append(out.Fragments, client.WantedFragment{Namespace: id.Namespace, Name: id.Name(), Key: id.Key})
	}
	w.Header().Set("Content-Type", "application/json")
	_ = json.NewEncoder(w).Encode(out) // whoever asked has gone, else
}

func wantedBy(r *http.Request) (wait time.Duration, limit int, err error) {
	q := r.URL.Query()
	if wait, err = span(q.Get("wait"), 0, maxWait); err != nil {
		return 0, 0, fmt.Errorf("wait: %w", err)
	}
	limit = 100
	if text := q.Get("limit"); text != "" {
		if limit, err = strconv.Atoi(text); err != nil || limit < 1 || limit > mostWanted {
			return 0, 0, fmt.Errorf("limit: %q is not a number from 1 to %d", text, mostWanted)
		}
	}
	for name := range q {
		switch name {
		case "wait", "limit", "namespace":
		default:
			return 0, 0, fmt.Errorf("there is no parameter %q; there are wait, limit and namespace", name)
		}
	}
	return wait, limit, nil
}

func (c *Control) awaitWanted(r *http.Request, namespace string, limit int, until time.Time) []fragment.ID {
	fragments := c.node.Fragments()
	for {
		grew := fragments.Growth()
		all := fragments.Wanted(namespace, limit, c.now())
		left := time.Until(until)
		if len(all) > 0 || left <= 0 {
			return all
		}
		timer := time.NewTimer(min(left, wantedEvery))
		select {
		case <-grew:
		case <-timer.C:
		case <-r.Context().Done():
			return nil
		case <-c.done:
			return nil
		}
		timer.Stop()
	}
}

func (c *Control) describeWanted(namespace *huma.Param) {
	wanted := operation("wanted-fragments", http.MethodGet, "/v1/fragments/wanted", "Which fragments of names that are kept warm (keep_warm) the application should fill; each is told to one who asks", records.Fragments)
	wanted.Parameters = []*huma.Param{namespace, textParam("wait", "query", "How long to wait for the first: 30s"), textParam("limit", "query", "How many, 1 to 1000; 100")}
	c.describe(wanted, map[string]*huma.Response{"200": answerOf(`{"fragments": [{"namespace", "name", "key"}]}`, "application/json"), "400": faultOf("A parameter is not valid")})
}
