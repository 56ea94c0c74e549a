package service

import (
	"errors"
	"strings"

	"vexillum/internal/service/queue"
	"vexillum/internal/service/refusal"
	"vexillum/internal/wire"
)

// presetSays returns the fields of a submission that come from its preset alone; values are
// written values.NAME.
func presetSays(preset, asked wire.Submit) map[string]bool {
	out := map[string]bool{}
	for name, pair := range fieldsOf(preset, asked) {
		if !pair[0].IsZero() && pair[1].IsZero() {
			out[name] = true
		}
	}
	for name := range preset.Values {
		if _, said := asked.Values[name]; !said {
			out["values."+name] = true
		}
	}
	return out
}

// withPreset names the preset in a refusal of a setting that comes from it alone: the person who
// submits has not written it, and would look for it in vain.
func withPreset(err error, name string, says map[string]bool) error {
	no := (*refusal.Refusal)(nil)
	if name == "" || !errors.As(err, &no) || no.Field == "" {
		return err
	}
	blamed := says[no.Field]
	for field := range says {
		if value, ok := strings.CutPrefix(field, "values."); ok {
			blamed = blamed || no.Field == field || no.Field == value ||
				no.Field == "values" && strings.Contains(no.Reason, value)
		}
	}
	if !blamed {
		return err
	}
	return &refusal.Refusal{Kind: no.Kind, Field: no.Field, Reason: no.Reason + "; it comes from the preset " + name}
}

// presetsBlamed is withPreset for the error of a batch.
func presetsBlamed(err error, subs []queue.Submission) error {
	one := (*queue.BatchError)(nil)
	if !errors.As(err, &one) || one.Index >= len(subs) || subs[one.Index].Spec.Preset == nil {
		return err
	}
	sub := subs[one.Index]
	return &queue.BatchError{Index: one.Index, Err: withPreset(one.Err, sub.Spec.Preset.Name, sub.PresetSays)}
}
