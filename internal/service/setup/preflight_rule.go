package setup

import (
	"context"

	"vexillum/internal/core/farm"
	"vexillum/internal/service/refusal"
	"vexillum/internal/wire"
)

// PreflightRule returns when nodes are asked by themselves.
func (d *Desk) PreflightRule(ctx context.Context) (out wire.PreflightRule, err error) {
	err = d.do(ctx, func(t *transaction) error {
		out = ruleView(t.State.PreflightRule)
		return nil
	})
	return out, err
}

func ruleView(r farm.PreflightRule) wire.PreflightRule {
	return wire.PreflightRule{Held: r.Held, Night: r.Night, Zone: r.Zone, Etag: r.Etag()}
}

// SetPreflightRule sets when nodes are asked automatically. match is the etag of the rule that the
// change was made for, empty for any.
func (d *Desk) SetPreflightRule(
	ctx context.Context, in wire.PreflightRule, match string, by farm.Person,
) (wire.PreflightRule, error) {
	rule := farm.PreflightRule{Held: in.Held, Night: in.Night, Zone: in.Zone}
	if rule.Night == "" {
		rule.Zone = ""
	}
	if err := rule.Check(); err != nil {
		return in, refusal.New(refusal.Invalid, "night", "%v", err)
	}
	err := d.do(ctx, func(t *transaction) error {
		before := t.State.PreflightRule
		if err := refusal.UnlessCurrent("the preflight rule", match, before.Etag(), true); err != nil {
			return err
		}
		if before != rule {
			t.Append(
				farm.PreflightRuleSet{Rule: rule, At: t.Now},
				farm.Audited{
					Actor: by.Name, Action: "set preflight rule", From: before.String(), To: rule.String(), At: t.Now,
				},
			)
		}
		return nil
	})
	return ruleView(rule), err
}
