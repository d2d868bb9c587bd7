package httprules

import "strconv"

// Forward says why a request was forwarded to the origin (RFC 9211 §2.2).
type Forward uint8

// The reasons of RFC 9211 §2.2; NotForwarded for a hit.
const (
	NotForwarded Forward = iota
	ForwardBypass
	ForwardMethod
	ForwardURIMiss
	ForwardVaryMiss
	ForwardMiss
	ForwardRequest
	ForwardStale
)

func (f Forward) String() string {
	return [...]string{"", "bypass", "method", "uri-miss", "vary-miss", "miss", "request", "stale"}[f]
}

// CacheStatus is our member of the Cache-Status list (RFC 9211).
type CacheStatus struct {
	Forward   Forward // NotForwarded writes hit, or nothing for an Own answer
	Own       bool    // neither stored nor asked for: this cache made the answer
	Status    int     // fwd-status: what the origin said; 0 leaves it out
	TTL       int64   // seconds, may be negative
	HasTTL    bool
	Stored    bool
	Collapsed bool
	Key       string // only for those who may see it
	Detail    string // likewise
}

// CacheName is the name under which this cache signs Cache-Status and Via.
const CacheName = "gerastic"

// String writes the member as a structured field.
func (c CacheStatus) String() string {
	b := make([]byte, 0, 64)
	b = append(b, CacheName...)
	switch {
	case c.Own:
	case c.Forward == NotForwarded:
		b = append(b, "; hit"...)
	default:
		b = append(append(b, "; fwd="...), c.Forward.String()...)
		if c.Status != 0 {
			b = strconv.AppendInt(append(b, "; fwd-status="...), int64(c.Status), 10)
		}
	}
	if c.HasTTL {
		b = strconv.AppendInt(append(b, "; ttl="...), c.TTL, 10)
	}
	if c.Stored {
		b = append(b, "; stored"...)
	}
	if c.Collapsed {
		b = append(b, "; collapsed"...)
	}
	b = appendString(b, "; key=", c.Key)
	b = appendString(b, "; detail=", c.Detail)
	return string(b)
}

// appendString writes an sf-string (RFC 9651 §3.3.3); what it cannot hold is
// percent-encoded.
func appendString(b []byte, name, s string) []byte {
	if s == "" {
		return b
	}
	b = append(append(b, name...), '"')
	for i := range len(s) {
		switch c := s[i]; {
		case c == '"' || c == '\\':
			b = append(b, '\\', c)
		case c < 0x20 || c > 0x7e:
			const hex = "0123456789ABCDEF"
			b = append(b, '%', hex[c>>4], hex[c&15])
		default:
			b = append(b, c)
		}
	}
	return append(b, '"')
}
