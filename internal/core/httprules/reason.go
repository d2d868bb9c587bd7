package httprules

// Reason names one reason for a decision. Its text is for people; its name is what
// causes, metrics and reports carry ("unstorable:no-store").
type Reason uint8

// The reasons. OK means that nothing stood in the way.
const (
	OK Reason = iota
	MethodNotCached
	StatusNotFinal
	StatusNotUnderstood
	PartialContent
	NoStore
	RequestNoStore
	PrivateResponse
	Authorized
	NoLifetime
	SetCookie
	VaryAll
	TooLarge
	TooManyGroups
	AlreadyStale
	EventStream
	GraphQLErrors
	UnkeyedCookie
	FirstSight
)

var reasonTexts = [...]struct{ name, section, text string }{
	OK:                  {"ok", "", "nothing stands in the way"},
	MethodNotCached:     {"method", "RFC 9111 §3", "only answers to GET and HEAD are stored"},
	StatusNotFinal:      {"status-not-final", "RFC 9111 §3", "the status is not final"},
	StatusNotUnderstood: {"must-understand", "RFC 9111 §5.2.2.3", "the answer says must-understand and its status is not one that this cache understands"},
	PartialContent:      {"partial", "RFC 9111 §3.3", "a partial answer is not stored as a whole one"},
	NoStore:             {"no-store", "RFC 9111 §5.2.2.5", "the answer says no-store"},
	RequestNoStore:      {"request-no-store", "RFC 9111 §5.2.1.5", "the request says no-store and the route obeys it"},
	PrivateResponse:     {"private", "RFC 9111 §5.2.2.7", "the answer says private: it is for one visitor only"},
	Authorized:          {"authorization", "RFC 9111 §3.5", "the request carried Authorization and the answer does not allow sharing (public, s-maxage or must-revalidate)"},
	NoLifetime:          {"no-lifetime", "RFC 9111 §3", "neither the origin nor the policy gives this status a lifetime"},
	SetCookie:           {"set-cookie", "RFC 9111 §7.3", "the answer sets a cookie and the route refuses those (admit.cookies: refuse)"},
	VaryAll:             {"vary-all", "RFC 9111 §4.1", "Vary: * matches no later request"},
	TooLarge:            {"body-too-large", "", "the body is larger than admit.max_body"},
	TooManyGroups:       {"too-many-tags", "", "the answer carries more than 1000 tags, or one of more than 1024 bytes: a purge of what was left out would not reach it"},
	AlreadyStale:        {"stale-on-arrival", "RFC 9111 §4.2", "the answer is stale on arrival and has no validator to ask again with"},
	EventStream:         {"event-stream", "", "a stream of events never ends, so that it is never stored"},
	GraphQLErrors:       {"graphql-errors", "", "the answer has errors, so it is not the answer to the question"},
	FirstSight:          {"first-sight", "", "it was not asked for often enough yet to be stored (admit.after)"},
	UnkeyedCookie:       {"unkeyed-cookie", "RFC 9111 §4.2.2", "the request carried a cookie that the key does not hold, and the origin gave the answer no lifetime itself (max-age, s-maxage, Expires) and did not say public"},
}

// Name is the short form that causes and metrics carry.
func (r Reason) Name() string { return reasonTexts[r].name }

// ForOne reports whether an answer that the rule keeps from the store may well be for the
// one who asked, and not only too large or the wrong method.
func (r Reason) ForOne() bool {
	switch r {
	case NoStore, PrivateResponse, Authorized, NoLifetime, SetCookie, VaryAll, AlreadyStale, EventStream, UnkeyedCookie:
		return true
	}
	return false
}

// Declared reports whether the rule is the origin's own word on an answer, which it gives
// whatever it was asked with.
func (r Reason) Declared() bool {
	switch r {
	case NoStore, PrivateResponse, VaryAll, AlreadyStale, EventStream:
		return true
	}
	return false
}

// Section is where the standard says it, or "" for a rule of the policy.
func (r Reason) Section() string { return reasonTexts[r].section }

// Text is a sentence for people.
func (r Reason) Text() string { return reasonTexts[r].text }
