package setup

import (
	"context"
	"fmt"

	"vexillum/internal/core/farm"
	"vexillum/internal/service/refusal"
	"vexillum/internal/wire"
)

// Rates returns what machines cost, the farm first.
func (d *Desk) Rates(ctx context.Context) ([]wire.Rate, error) {
	out := []wire.Rate{}
	err := d.do(ctx, func(t *transaction) error {
		for _, scope := range t.State.RateScopes() {
			out = append(out, rateView(scope, t.State.Rates[scope]))
		}
		return nil
	})
	return out, err
}

func rateView(of farm.RateScope, r farm.Rate) wire.Rate {
	return wire.Rate{
		Kind: string(of.Kind), Name: of.Name, Watts: r.Watts, PerHour: r.PerHour, Currency: r.Currency, Etag: r.Etag(),
	}
}

// SetRate says what machines cost: of the farm, a pool or a node. Nothing said takes back
// what was.
// match is the etag of the rate that the change was made for, empty for any.
func (d *Desk) SetRate(ctx context.Context, in wire.Rate, match string, by farm.Person) (out wire.Rate, err error) {
	of := farm.RateScope{Kind: farm.RateKind(in.Kind), Name: in.Name}
	rate := farm.Rate{Watts: in.Watts, PerHour: in.PerHour, Currency: in.Currency}
	err = d.do(ctx, func(t *transaction) error {
		switch n := t.State.NodeNamed(of.Name); {
		case of.Kind == farm.RateFarm && of.Name != "":
			return refusal.New(refusal.Invalid, "name", "a rate of the farm has no name")
		case of.Kind == farm.RatePool && t.State.Pools[of.Name] == nil:
			return refusal.New(refusal.Invalid, "name", "there is no pool %.60q", of.Name)
		case of.Kind == farm.RateNode && n == nil:
			return refusal.New(refusal.Invalid, "name", "there is no node %.60q", of.Name)
		case of.Kind != farm.RateFarm && of.Kind != farm.RatePool && of.Kind != farm.RateNode:
			return refusal.New(
				refusal.Invalid,
				"kind",
				"a rate is of the farm, a pool or a node, not of %.20q",
				of.Kind,
			)
		case of.Kind != farm.RateFarm && rate.Currency != "":
			return refusal.New(refusal.Invalid, "currency", "the currency is said once, with the rate of the farm")
		}
		if err := rate.Check(); err != nil {
			return refusal.New(refusal.Invalid, "rate", "%v", err)
		}
		out = rateView(of, rate)
		before, there := t.State.Rates[of]
		if err := refusal.UnlessCurrent("the rate of "+of.String(), match, before.Etag(), there); err != nil {
			return err
		}
		if before == rate {
			return nil
		}
		t.Append(
			farm.RateSet{Of: of, Rate: rate, At: t.Now},
			farm.Audited{
				Actor: by.Name, Action: "set rate", Subject: of.String(), From: rateText(before), To: rateText(rate),
				At: t.Now,
			},
		)
		return nil
	})
	return out, err
}

func rateText(r farm.Rate) string {
	if r == (farm.Rate{}) {
		return ""
	}
	return fmt.Sprintf("%g W, %g %s an hour", r.Watts, r.PerHour, r.Currency)
}
