package service

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"iter"
	"maps"
	"path"
	"reflect"
	"slices"
	"strings"

	"vexillum/internal/core/farm"
	"vexillum/internal/jobfile"
	"vexillum/internal/service/floor"
	"vexillum/internal/service/queue"
	"vexillum/internal/service/refusal"
	"vexillum/internal/wire"
)

// presets brings the presets of a person's runs, each once.
type presets struct {
	f     *floor.Floor
	by    string
	known map[presetKey]preset
}

type presetKey struct{ project, recipe, name string }

type preset struct {
	use      *farm.PresetUse
	by       string
	role     farm.Role // of the writer
	settings jobfile.Settings
}

// noPreset is what is said for a run that shall have no preset, not even the chosen one.
const noPreset = "none"

// What a proof has where neither its preset nor anybody else says.
const (
	proofEvery = 10
	proofScale = 0.5
)

// submission returns what is asked for with all that its preset says.
func (p *presets) submission(ctx context.Context, a Asked, by farm.Person) (queue.Submission, error) {
	none := queue.Submission{}
	from, err := p.find(ctx, a.Submit)
	if err != nil {
		return none, err
	}
	in := wire.Submit{}
	if err := from.settings.Apply(&in); err != nil {
		return none, fmt.Errorf("the preset %s: %w", from.use.Name, err)
	}
	changed, says := changes(in, a.Submit), presetSays(in, a.Submit)
	over(&in, a.Submit)
	if err := p.mayWrite(from, in); err != nil {
		return none, err
	}
	var asked []byte
	if a.Submit.Proof {
		if a.Kind != "" && a.Kind != string(farm.Final) && a.Kind != string(farm.Proof) {
			return none, refusal.New(refusal.Invalid, "proof", "a %s is no proof; leave out one of the two", a.Kind)
		}
		if asked, err = asProof(&in, from.settings.Proof, a.Proof); err != nil {
			return none, err
		}
	}
	sub, err := submissionOf(in, by)
	if err != nil {
		if from.use != nil {
			err = withPreset(err, from.use.Name, says)
		}
		return none, err
	}
	sub.PresetSays = says
	sub.After = append(sub.After, a.Waits...)
	sub.Spec.Asked = asked
	if from.use != nil {
		use := *from.use
		use.Changed = changed
		sub.Spec.Preset = &use
	}
	return sub, nil
}

// mayWrite refuses a preset that was written by somebody who may not submit runs of the recipe:
// people who use it would run what others could not.
func (p *presets) mayWrite(from preset, in wire.Submit) error {
	r := p.f.Recipes.Book()[in.Recipe]
	if fitting := p.f.Recipes.Book().ForScene(path.Ext(in.Scene)); r == nil && in.Recipe == "" && len(fitting) > 0 {
		r = fitting[0]
	}
	if from.use == nil || r == nil || r.Role == "" || from.role.Allows(farm.Role(r.Role)) {
		return nil
	}
	return refusal.New(
		refusal.Forbidden, "preset",
		"the preset %s was written by %s, and only a %s may submit runs of the recipe %s; use another preset, or none",
		from.use.Name, from.by, r.Role, r.Name,
	)
}

// find returns the preset of what is asked for: the one that it names, or the one that the
// person has chosen.
func (p *presets) find(ctx context.Context, in wire.Submit) (preset, error) {
	if in.Preset == noPreset {
		return preset{}, nil
	}
	name := in.Recipe
	if name == "" { // an unknown ending is told where the rest of the scene is looked at
		if fitting := p.f.Recipes.Book().ForScene(path.Ext(in.Scene)); len(fitting) > 0 {
			name = fitting[0].Name
		}
	}
	key := presetKey{in.Project, name, in.Preset}
	if known, ok := p.known[key]; ok {
		return known, nil
	}
	chosen, err := p.f.Setup.PresetFor(ctx, p.by, in.Project, name, in.Preset)
	if err != nil {
		return preset{}, err
	}
	out := preset{use: chosen.Use, by: chosen.By, role: chosen.Role}
	if chosen.Use != nil {
		if out.settings, err = jobfile.ParsePreset([]byte(chosen.Text)); err != nil {
			return out, fmt.Errorf("reading the preset %s: %w", chosen.Use.PresetKey, err)
		}
	}
	p.known[key] = out
	return out, nil
}

// over puts what is asked for over what a preset says.
func over(in *wire.Submit, asked wire.Submit) {
	values := maps.Clone(in.Values)
	from, to := reflect.ValueOf(asked), reflect.ValueOf(in).Elem()
	for i := range from.NumField() {
		if f := from.Field(i); !f.IsZero() {
			to.Field(i).Set(f)
		}
	}
	if asked.Width != 0 || asked.Height != 0 {
		in.Width, in.Height = asked.Width, asked.Height
	}
	if values != nil {
		maps.Copy(values, asked.Values)
		in.Values = values
	}
}

// fieldsOf yields the fields of a preset and of what is asked for, by name, except values.
func fieldsOf(preset, asked wire.Submit) iter.Seq2[string, [2]reflect.Value] {
	return func(yield func(string, [2]reflect.Value) bool) {
		of := reflect.TypeFor[wire.Submit]()
		a, b := reflect.ValueOf(preset), reflect.ValueOf(asked)
		for i := range of.NumField() {
			name, _, _ := strings.Cut(of.Field(i).Tag.Get("json"), ",")
			if name != "values" && !yield(name, [2]reflect.Value{a.Field(i), b.Field(i)}) {
				return
			}
		}
	}
}

// changes names what is asked for otherwise than a preset says.
func changes(preset, asked wire.Submit) (out []string) {
	for name, pair := range fieldsOf(preset, asked) {
		x, y := pair[0], pair[1]
		if x.IsZero() || y.IsZero() || reflect.DeepEqual(x.Interface(), y.Interface()) {
			continue
		}
		if name == "width" || name == "height" {
			name = "size"
		}
		if !slices.Contains(out, name) {
			out = append(out, name)
		}
	}
	for _, name := range slices.Sorted(maps.Keys(asked.Values)) {
		if was, said := preset.Values[name]; said && was != asked.Values[name] {
			out = append(out, "values."+name)
		}
	}
	return out
}

// asProof turns what is asked for as a final into its proof, and returns the final as it
// was asked for: the final that follows is made of that, never of the proof.
func asProof(in *wire.Submit, preset *jobfile.Proof, said jobfile.Proof) (asked []byte, err error) {
	final := *in
	final.Proof, final.Kind, final.Every, final.ProofScale, final.DryRun = false, string(farm.Final), 0, 0, false
	final.Values = maps.Clone(in.Values)
	if asked, err = json.Marshal(final); err != nil {
		return nil, fmt.Errorf("keeping what the final is: %w", err)
	}
	var p jobfile.Proof
	if preset != nil {
		p = *preset
	}
	p = p.Over(said)
	scale := proofScale
	if p.Scale != "" {
		if scale, err = jobfile.ParseScale(p.Scale); err != nil {
			return nil, refusal.New(refusal.Invalid, "proof.scale", "%v", err)
		}
	}
	in.Kind, in.Held, in.Due = string(farm.Proof), false, ""
	in.Every = cmp.Or(in.Every, p.Every, proofEvery)
	in.Scale = cmp.Or(in.Scale, 1) * cmp.Or(in.ProofScale, scale)
	in.Priority = cmp.Or(p.Priority, in.Priority)
	if p.Passes != nil {
		in.Passes = p.Passes
	}
	in.Values = maps.Clone(in.Values)
	for name, value := range p.Values {
		if in.Values == nil {
			in.Values = map[string]string{}
		}
		in.Values[name] = string(value)
	}
	return asked, nil
}
