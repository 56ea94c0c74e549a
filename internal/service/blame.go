package service

import (
	"errors"
	"reflect"
	"strings"

	"vexillum/internal/service/queue"
	"vexillum/internal/service/refusal"
	"vexillum/internal/wire"
)

// presetSays returns the fields of a submission that its preset alone has said, and of its values
// each as values.NAME.
func presetSays(preset, asked wire.Submit) map[string]bool {
	out := map[string]bool{}
	of := reflect.TypeFor[wire.Submit]()
	a, b := reflect.ValueOf(preset), reflect.ValueOf(asked)
	for i := range of.NumField() {
		name, _, _ := strings.Cut(of.Field(i).Tag.Get("json"), ",")
		if name != "values" && !a.Field(i).IsZero() && b.Field(i).IsZero() {
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

// withPreset names the preset in a refusal of what it alone has said: who submits has not written
// that, and looks for it in vain.
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
	return &refusal.Refusal{Kind: no.Kind, Field: no.Field, Reason: no.Reason + "; the preset " + name + " says so"}
}

// presetsBlamed is withPreset of the error of submissions that came together.
func presetsBlamed(err error, subs []queue.Submission) error {
	one := (*queue.BatchError)(nil)
	if !errors.As(err, &one) || one.Index >= len(subs) || subs[one.Index].Spec.Preset == nil {
		return err
	}
	sub := subs[one.Index]
	return &queue.BatchError{Index: one.Index, Err: withPreset(one.Err, sub.Spec.Preset.Name, sub.PresetSays)}
}
