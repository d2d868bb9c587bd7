package key

import "strings"

// Equivalent is the form that a URL's path or query shares with those that mean the same:
// percent-encoding in capitals, of all that no URL may hold as it is, and none where none is
// needed (RFC 3986 §6.2.2.1, §6.2.2.2; RFC 3987 §3.1). Keys hold what was sent; marks and
// indexes hold this, which is text whatever a visitor sends.
func Equivalent(s string) string {
	plain := 0
	for plain < len(s) && s[plain] != '%' && s[plain] > ' ' && s[plain] < 0x7f {
		plain++
	}
	if plain == len(s) {
		return s
	}
	var b strings.Builder
	for i := 0; i < len(s); i++ {
		c, isEncoded := encoded(s, i)
		if isEncoded {
			i += 2
		} else {
			c = s[i]
		}
		const hex = "0123456789ABCDEF"
		if isEncoded && !isUnreserved(c) || c <= ' ' || c >= 0x7f {
			b.WriteString(string([]byte{'%', hex[c>>4], hex[c&15]}))
		} else {
			b.WriteByte(c)
		}
	}
	return b.String()
}

// EquivalentPath is Equivalent, with the dot segments taken out as RFC 3986 §5.2.4 says.
func EquivalentPath(path string) string {
	path = Equivalent(path)
	if !strings.Contains(path, "/.") {
		return path
	}
	segments := strings.Split(path, "/")
	kept := make([]string, 0, len(segments))
	for i, s := range segments {
		last := i == len(segments)-1
		switch s {
		case ".":
		case "..":
			if len(kept) > 1 {
				kept = kept[:len(kept)-1]
			}
		default:
			kept = append(kept, s)
			continue
		}
		if last {
			kept = append(kept, "")
		}
	}
	return strings.Join(kept, "/")
}

// encoded reads the percent-encoded byte at i.
func encoded(s string, i int) (c byte, ok bool) {
	if s[i] != '%' || i+2 >= len(s) {
		return 0, false
	}
	high, okHigh := unhex(s[i+1])
	low, okLow := unhex(s[i+2])
	return high<<4 | low, okHigh && okLow
}

func unhex(c byte) (byte, bool) {
	switch {
	case '0' <= c && c <= '9':
		return c - '0', true
	case 'a' <= c && c <= 'f':
		return c - 'a' + 10, true
	case 'A' <= c && c <= 'F':
		return c - 'A' + 10, true
	}
	return 0, false
}

func isUnreserved(c byte) bool {
	return 'a' <= c && c <= 'z' || 'A' <= c && c <= 'Z' || '0' <= c && c <= '9' || c == '-' || c == '.' || c == '_' || c == '~'
}

// Climbs reports whether an origin could read a path as another than it looks: it has
// segments of dots, plain or encoded, once or twice, with a parameter behind or between
// backslashes. A route that its beginning matches may not be the one that it leads to.
func Climbs(path string) bool {
	if !strings.Contains(path, "/.") && !strings.ContainsAny(path, "%\\;") {
		return false
	}
	for range 4 { // an encoding within an encoding
		if climbsPlain(path) {
			return true
		}
		plain := decodeAll(path)
		if plain == path {
			return false
		}
		path = plain
	}
	return true // nobody encodes so often who means well
}

func climbsPlain(path string) bool {
	for segment := range strings.FieldsFuncSeq(path, func(r rune) bool { return r == '/' || r == '\\' }) {
		segment, _, _ = strings.Cut(segment, ";")
		segment = strings.TrimFunc(segment, func(r rune) bool { return r <= ' ' || r == 0x7f })
		if segment == "." || segment == ".." {
			return true
		}
	}
	// 0xC0 and 0xC1 are in no UTF-8: they only serve to hide a dot or a slash.
	return strings.IndexByte(path, 0xC0) >= 0 || strings.IndexByte(path, 0xC1) >= 0
}

func decodeAll(s string) string {
	if strings.IndexByte(s, '%') < 0 {
		return s
	}
	b := make([]byte, 0, len(s))
	for i := 0; i < len(s); i++ {
		if c, ok := encoded(s, i); ok {
			b = append(b, c)
			i += 2
			continue
		}
		b = append(b, s[i])
	}
	return string(b)
}
