package client

import (
	"encoding/json"
	"fmt"
)

// MarshalJSON writes a plain URL as a string.
func (u PurgeURL) MarshalJSON() ([]byte, error) {
	if !u.AnyQuery {
		return json.Marshal(u.URL)
	}
	type object PurgeURL
	return json.Marshal(object(u))
}

// UnmarshalJSON reads a string or an object.
func (u *PurgeURL) UnmarshalJSON(b []byte) error {
	if len(b) > 0 && b[0] == '"' {
		return json.Unmarshal(b, &u.URL)
	}
	type object PurgeURL
	if err := json.Unmarshal(b, (*object)(u)); err != nil {
		return fmt.Errorf("a URL is a string or {\"url\": …, \"any_query\": true}: %w", err)
	}
	return nil
}
