package edge

import (
	"gerastic/internal/core/key"
	"gerastic/internal/core/meter"
	"gerastic/internal/watching"
)

// Event is one answered request, as those who watch see it.
type Event struct {
	Sample meter.Sample
	Method string
	URL    string
	Key    string // only if somebody wants events in detail
}

// Watchers are those who watch the requests.
func (e *Edge) Watchers() *watching.Watchers[Event] { return e.watching }

// tell shows the request to those who watch, if there are any.
func (x *exchange) tell() {
	ws := x.edge.watching
	if ws.Count() == 0 {
		return
	}
	ws.Tell(func() Event {
		event := Event{Sample: x.sample, Method: x.req.Method, URL: x.req.Scheme + "://" + x.req.Host + x.req.Path}
		if x.req.HasQuery {
			event.URL += "?" + x.req.Query
		}
		if ws.Exact() && x.in.Route != nil {
			event.Key = key.Text(key.Parts(string(x.key)))
		}
		return event
	})
}
