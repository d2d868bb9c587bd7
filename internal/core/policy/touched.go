package policy

import "reflect"

// Touched names the routes of a policy whose stored answers another one judges by other terms,
// finds under other keys, or does not use at all.
func (p *Policy) Touched(by *Policy) (routes []string) {
	for _, old := range p.Routes {
		same := false
		for _, route := range by.Routes {
			same = same || route.sameFor(old)
		}
		if !same {
			routes = append(routes, old.Name)
		}
	}
	return routes
}

// sameFor reports whether the route answers the same requests from what another one stored,
// and judges it alike.
func (route *Route) sameFor(old *Route) bool {
	return route.KeyName == old.KeyName && route.TermsDigest == old.TermsDigest && route.Enabled == old.Enabled &&
		reflect.DeepEqual(route.Key, old.Key) && reflect.DeepEqual(route.Path, old.Path) && reflect.DeepEqual(route.Hosts, old.Hosts) && reflect.DeepEqual(route.Methods, old.Methods)
}
