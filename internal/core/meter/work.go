package meter

import (
	"cmp"
	"fmt"
	"maps"
	"math"
	"slices"
	"strconv"
	"strings"

	"gerastic.example/client/protocol"

	"gerastic/internal/core/httprules"
)

// Work is what an answer or a fragment took to make, as its maker counts it, in writing:
// "queries=7,rows=120". It stays with what is stored, so that whoever is given that is known to
// have saved it.
type Work string

// What is counted of one answer, and told apart in one sum of figures.
const (
	maxWork    = 16
	maxWorkOf  = 64
	maxWorkLen = 64 // bytes of a name
)

// OtherWork is the name under which counts what is too many.
const OtherWork = "(others)"

// NewWork writes amounts down: of the first names in order, and those that are positive numbers.
func NewWork(amounts map[string]float64) Work {
	var b strings.Builder
	n := 0
	for _, name := range slices.Sorted(maps.Keys(amounts)) {
		amount := amounts[name]
		if n == maxWork {
			break
		}
		if !(amount > 0) || math.IsInf(amount, 0) || name == "" || len(name) > maxWorkLen || strings.ContainsAny(name, "=,\x00") {
			continue
		}
		if n++; n > 1 {
			b.WriteByte(',')
		}
		b.WriteString(name)
		b.WriteByte('=')
		b.WriteString(strconv.FormatFloat(amount, 'f', -1, 64))
	}
	return Work(b.String())
}

// WorkOf is the work that a maker tells of: what it counted (protocol.WorkField), and the durations of
// its Server-Timing metrics, in milliseconds, each under its own name. What our own clients time, that
// they waited for fragments, is no work.
func WorkOf(counted, timed []string) Work {
	if counted == nil && timed == nil {
		return ""
	}
	amounts := httprules.ServerTimings(timed)
	delete(amounts, "fragments")
	maps.Copy(amounts, protocol.ParseWork(counted))
	return NewWork(amounts)
}

// Each calls f with each name and amount.
func (w Work) Each(f func(name string, amount float64)) {
	for one := range strings.SplitSeq(string(w), ",") {
		if name, text, found := strings.Cut(one, "="); found {
			amount, _ := strconv.ParseFloat(text, 64)
			f(name, amount)
		}
	}
}

// Amount is how much of one kind of work was done, and how much was not, since its result was there.
type Amount struct{ Spent, Saved float64 }

// Amounts are sums of work by name.
type Amounts map[string]Amount

// Add adds to the sum of a name.
func (a Amounts) Add(name string, more Amount) {
	sum, known := a[name]
	if !known && len(a) >= maxWorkOf {
		name = OtherWork
		sum = a[name]
	} else if !known {
		name = strings.Clone(name)
	}
	a[name] = Amount{sum.Spent + more.Spent, sum.Saved + more.Saved}
}

// String writes the sums so that two of them, one behind the other, are their sum.
func (a Amounts) String() string {
	var b strings.Builder
	for _, name := range slices.Sorted(maps.Keys(a)) {
		fmt.Fprintf(&b, "%s=%g/%g,", name, a[name].Spent, a[name].Saved)
	}
	return b.String()
}

// AddWritten adds what String wrote.
func (a Amounts) AddWritten(text string) {
	for one := range strings.SplitSeq(text, ",") {
		name, numbers, found := strings.Cut(one, "=")
		if spent, saved, two := strings.Cut(numbers, "/"); found && two {
			var sum Amount
			sum.Spent, _ = strconv.ParseFloat(spent, 64)
			sum.Saved, _ = strconv.ParseFloat(saved, 64)
			a.Add(name, sum)
		}
	}
}

// Merge adds all of other.
func (a Amounts) Merge(other Amounts) {
	for name, amount := range other {
		a.Add(name, amount)
	}
}

// Savings are what the cache saved of one route or fragment name, or of all.
type Savings struct {
	Route string
	Ratio
	Work Amounts
}

// PerChange is how many requests were answered for each answer that had to be made; ok is false if
// none was.
func (s *Savings) PerChange() (ratio float64, ok bool) {
	made := s.OriginRequests - s.ByOutcome[Revalidated]
	if made <= 0 {
		return 0, false
	}
	return float64(s.Requests) / float64(made), true
}

// Money is what the saved work would have cost, by the price of each kind.
func (s *Savings) Money(prices map[string]float64) (sum float64) {
	for _, name := range slices.Sorted(maps.Keys(prices)) {
		sum += prices[name] * s.Work[name].Saved
	}
	return sum
}

// SavingsReport sums figures into one row for each route, for visitors' requests and for parts.
type SavingsReport struct {
	Total Savings // of visitors' requests, but for its work, which is that of all
	rows  map[string]*Savings
}

func (r *SavingsReport) at(route string) *Savings {
	if r.rows == nil {
		r.rows, r.Total.Work = map[string]*Savings{}, Amounts{}
	}
	if r.rows[route] == nil {
		r.rows[route] = &Savings{Route: route, Work: Amounts{}}
	}
	return r.rows[route]
}

// Count adds a cell.
func (r *SavingsReport) Count(k Key, c *Cell) {
	row := r.at(k.Route)
	row.Count(k, c)
	row.Work.Merge(c.Work)
	r.Total.Work.Merge(c.Work)
	if !Within(k.Route) {
		r.Total.Count(k, c)
	}
}

// Rows returns the rows, those first that saved most of their origins' time.
func (r *SavingsReport) Rows() []*Savings {
	return slices.SortedFunc(maps.Values(r.rows), func(a, b *Savings) int {
		return cmp.Or(cmp.Compare(b.Saved, a.Saved), cmp.Compare(a.Route, b.Route))
	})
}
