package policy

// InForce is a policy with the switches that were set at run time. It does not change: a node
// swaps one for another.
type InForce struct {
	*Policy
	Off    map[string]bool // routes and names of fragments that are switched off
	AllOff bool
}

// On reports whether a route is on: in the policy and by its switch.
func (p *InForce) On(route *Route) bool { return route.Enabled && p.NameOn(route.Name) }

// NameOn reports whether a name is on that may stand in no policy, as those of fragments do.
func (p *InForce) NameOn(name string) bool { return p.Enabled && !p.AllOff && !p.Off[name] }
