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
		out = wire.PreflightRule(t.State.PreflightRule)
		return nil
	})
	return out, err
}

// SetPreflightRule says when nodes are asked by themselves.
func (d *Desk) SetPreflightRule(
	ctx context.Context, in wire.PreflightRule, by farm.Person,
) (wire.PreflightRule, error) {
	rule := farm.PreflightRule(in)
	if rule.Night == "" {
		rule.Zone = ""
	}
	if err := rule.Check(); err != nil {
		return in, refusal.New(refusal.Invalid, "night", "%v", err)
	}
	err := d.do(ctx, func(t *transaction) error {
		if before := t.State.PreflightRule; before != rule {
			t.Append(
				farm.PreflightRuleSet{Rule: rule, At: t.Now},
				farm.Audited{
					Actor: by.Name, Action: "set preflight rule", From: before.String(), To: rule.String(), At: t.Now,
				},
			)
		}
		return nil
	})
	return wire.PreflightRule(rule), err
}
