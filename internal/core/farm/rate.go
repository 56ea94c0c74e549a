package farm

import (
	"cmp"
	"fmt"
	"regexp"
	"slices"
	"time"
)

// RateKind is what a rate is of.
type RateKind string

// What rates may be of; the more exact counts.
const (
	RateFarm RateKind = "farm"
	RatePool RateKind = "pool"
	RateNode RateKind = "node"
)

// RateScope is what a rate is of.
type RateScope struct {
	Kind RateKind `json:"kind"`
	Name string   `json:"name,omitempty"` // of the pool or node; empty of the farm
}

// String writes it for people.
func (s RateScope) String() string {
	if s.Kind == RateFarm {
		return "the farm"
	}
	return string(s.Kind) + " " + s.Name
}

// Rate is what a machine costs while it works.
type Rate struct {
	Watts   float64 `json:"watts,omitempty"`    // while it renders; 0: not known
	PerHour float64 `json:"per_hour,omitempty"` // money for an hour of the machine; 0: nothing
	// Currency of PerHour, as ISO 4217 has it; of the farm alone
	Currency string `json:"currency,omitempty"`
}

// Limits of rates.
const (
	mostWatts   = 100_000
	mostPerHour = 1_000_000
)

var currency = regexp.MustCompile(`^[A-Z]{3}$`)

// Check returns an error that says what is wrong with a rate, if anything.
func (r Rate) Check() error {
	switch {
	case !(r.Watts >= 0 && r.Watts <= mostWatts):
		return fmt.Errorf("a machine takes 0 to %d watts, not %g", mostWatts, r.Watts)
	case !(r.PerHour >= 0 && r.PerHour <= mostPerHour):
		return fmt.Errorf("an hour of a machine costs 0 to %d, not %g", mostPerHour, r.PerHour)
	case r.Currency != "" && !currency.MatchString(r.Currency):
		return fmt.Errorf("a currency is written with three letters such as EUR, not %.20q", r.Currency)
	}
	return nil
}

// RateOf returns what a node costs: what is said of it, else of the first of its pools of
// which something is said, else of the farm.
func (s *State) RateOf(n *Node) (out Rate) {
	scopes := []RateScope{{RateNode, n.Name}}
	for _, p := range n.Settings.Pools {
		scopes = append(scopes, RateScope{RatePool, p})
	}
	for _, scope := range append(scopes, RateScope{Kind: RateFarm}) {
		r := s.Rates[scope]
		out.Watts, out.PerHour = cmp.Or(out.Watts, r.Watts), cmp.Or(out.PerHour, r.PerHour)
	}
	out.Currency = cmp.Or(s.Rates[RateScope{Kind: RateFarm}].Currency, "EUR")
	return out
}

// RateScopes returns all that rates are said of, the farm first.
func (s *State) RateScopes() []RateScope {
	out := make([]RateScope, 0, len(s.Rates))
	for scope := range s.Rates {
		out = append(out, scope)
	}
	slices.SortFunc(out, func(a, b RateScope) int {
		rank := []RateKind{RateFarm, RatePool, RateNode}
		return cmp.Or(
			cmp.Compare(slices.Index(rank, a.Kind), slices.Index(rank, b.Kind)), cmp.Compare(a.Name, b.Name),
		)
	})
	return out
}

// RateSet says what machines cost. An empty Rate takes back what was said.
type RateSet struct {
	Of   RateScope `json:"of"`
	Rate Rate      `json:"rate"`
	At   time.Time `json:"at"`
}

// Kind implements [Record].
func (RateSet) Kind() Kind { return "rate set" }

// About implements [Record].
func (r RateSet) About() About { return About{At: r.At} }

// Wakes implements [Record].
func (RateSet) Wakes() Wakes { return 0 }

func (r RateSet) apply(s *State) error {
	if r.Rate == (Rate{}) {
		delete(s.Rates, r.Of)
		return nil
	}
	s.Rates[r.Of] = r.Rate
	return nil
}
