package httprules

import "strings"

// ForwardedControl is what of a request's Cache-Control or Pragma goes on to the origin: all
// but only-if-cached, which the origin could not obey (RFC 9111 §5.2).
func ForwardedControl(lines []string) []string {
	wanted := func(name, _ string, _ bool) bool { return name != "only-if-cached" }
	for _, line := range lines {
		if strings.Contains(strings.ToLower(line), "only-if-cached") {
			return keepDirectives(lines, wanted)
		}
	}
	return lines
}

// requestDirectives are those that RFC 9111 §5.2.1 and RFC 5861 define for requests.
var requestDirectives = map[string]bool{"no-cache": true, "no-store": true, "no-transform": true, "max-age": true, "max-stale": true, "min-fresh": true, "stale-if-error": true}

// KnownControl is the same, less what no standard defines: nothing that an answer could be
// made of.
func KnownControl(lines []string) []string {
	return keepDirectives(lines, func(name, value string, valued bool) bool {
		return requestDirectives[name] && (!valued || value != "" && digits(value))
	})
}

func keepDirectives(lines []string, keep func(name, value string, valued bool) bool) []string {
	var kept []string
	for _, line := range lines {
		for line != "" {
			var name, value string
			var valued bool
			name, value, valued, line = nextDirective(line)
			switch {
			case name == "" || !keep(strings.ToLower(name), value, valued):
			case !valued:
				kept = append(kept, name)
			case IsToken(value):
				kept = append(kept, name+"="+value)
			default:
				kept = append(kept, name+`="`+strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(value)+`"`)
			}
		}
	}
	if kept == nil {
		return nil
	}
	return []string{strings.Join(kept, ", ")}
}
