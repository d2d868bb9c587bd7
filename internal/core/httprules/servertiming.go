package httprules

import (
	"strconv"
	"strings"
)

// ServerTimings reads the durations of Server-Timing metrics, in milliseconds, summed by name (W3C
// Server Timing §3). A metric without a duration, or of another form, is left out.
func ServerTimings(lines []string) map[string]float64 {
	sums := map[string]float64{}
	for _, line := range lines {
		for _, metric := range splitOutsideQuotes(line, ',') {
			params := splitOutsideQuotes(metric, ';')
			name := strings.TrimSpace(params[0])
			if !IsToken(name) {
				continue
			}
			for _, param := range params[1:] {
				key, value, _ := strings.Cut(param, "=")
				if !strings.EqualFold(strings.TrimSpace(key), "dur") {
					continue
				}
				if ms, err := strconv.ParseFloat(strings.Trim(strings.TrimSpace(value), `"`), 64); err == nil && ms > 0 {
					sums[name] += ms
				}
				break // the first of a name counts
			}
		}
	}
	return sums
}

// splitOutsideQuotes splits a field's value where no quoted string is under way.
func splitOutsideQuotes(s string, at byte) (pieces []string) {
	begin, quoted := 0, false
	for i := 0; i < len(s); i++ {
		switch {
		case quoted && s[i] == '\\':
			i++
		case s[i] == '"':
			quoted = !quoted
		case s[i] == at && !quoted:
			pieces = append(pieces, s[begin:i])
			begin = i + 1
		}
	}
	return append(pieces, s[begin:])
}
