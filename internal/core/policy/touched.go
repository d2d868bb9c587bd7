package policy

import "reflect"

// Touched names the routes of a policy whose stored answers another one judges by other terms,
// finds under other keys, or does not use at all.
func (p *Policy) Touched(by *Policy) (routes []string) {
	for _, old := range p.Routes {
		same := false
		for _, plan := range by.Routes {
			same = same || plan.sameFor(old)
		}
		if !same {
			routes = append(routes, old.Name)
		}
	}
	return routes
}

// sameFor reports whether the route answers the same requests from what another one stored,
// and judges it alike.
func (plan *Plan) sameFor(old *Plan) bool {
	return plan.KeyName == old.KeyName && plan.TermsName == old.TermsName && plan.Enabled == old.Enabled &&
		reflect.DeepEqual(plan.Key, old.Key) && reflect.DeepEqual(plan.Path, old.Path) && reflect.DeepEqual(plan.Hosts, old.Hosts) && reflect.DeepEqual(plan.Methods, old.Methods)
}
