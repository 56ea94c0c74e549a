package recipe

import (
	"fmt"
	"maps"
	"path"
	"regexp"
	"slices"
	"strings"

	"vexillum/internal/core/farm"
	"vexillum/internal/fileschema"

	"github.com/dustin/go-humanize/english"
	"github.com/kballard/go-shellquote"
)

// placeholders are the words in braces that every launch fills in.
var placeholders = map[string]bool{
	"vexillum": true, "scene": true, "scene_folder": true, "scene_root": true, "scene_name": true,
	"staging": true, "checkpoint": true, "speed": true, "node": true, "passes": true, "cores": true, "devices": true,
	"device_numbers": true, "tile": true, "frames_commas": true, "frames_spaces": true, "frames_ranges": true,
	"frames_file": true, "response_file": true, "from": true, "from_file": true, "from_files": true,
	"tile_left_part": true, "tile_top_part": true,
	"tile_right_part": true, "tile_bottom_part": true,
}

// numbers are the placeholders with which one can count: {frame-1}, {frame:04}.
var numbers = map[string]bool{
	"frame": true, "first": true, "last": true, "shot_first": true, "shot_last": true, "shot_count": true,
	"own_frame": true, "own_first": true, "own_last": true, "width": true, "height": true, "threads": true,
	"memory_mib": true, "tile_left": true, "tile_top": true, "tile_right": true, "tile_bottom": true,
	"tile_width": true, "tile_height": true,
}

// filled reports whether every launch fills in a placeholder.
func filled(name string) bool { return placeholders[name] || numbers[name] }

// replaced are placeholders that recipes had once, and what stands for them.
var replaced = map[string]string{"range_first": "shot_first", "range_last": "shot_last"}

// leastFPS is the lowest frame rate.
var leastFPS = 0.01

// known are settings that a recipe of the second form need not declare: where it
// makes use of one, jobs may give it.
var known = map[string]Value{
	"fps":    {Kind: "number", Default: "24", Least: &leastFPS, Help: "Frames a second"},
	"camera": {Kind: "text", Help: "Camera of the scene; the scene's own when left out"},
	"layer":  {Kind: "text", Help: "Layer of the scene; all when left out"},
}

// addKnown declares the known settings that the recipe makes use of.
func (r *Recipe) addKnown() {
	if r.Format < 2 {
		return
	}
	for name, v := range known {
		_, declared := r.Values[name]
		used := r.uses(func(n string) bool { return n == name }) ||
			slices.ContainsFunc(r.Arguments, func(a Argument) bool { return a.When == name })
		if declared || !used {
			continue
		}
		if r.Values == nil {
			r.Values = map[string]Value{}
		}
		r.Values[name] = v
	}
}

// check returns what is wrong with a recipe that fits the schema.
func (r *Recipe) check() (found []fileschema.Wrong) {
	note := func(what string, path ...string) { found = append(found, fileschema.Wrong{Path: path, What: what}) }
	if _, err := r.Takes.Amounts(); err != nil {
		note(err.Error(), "takes")
	}
	for _, name := range slices.Sorted(maps.Keys(r.Values)) {
		v := r.Values[name]
		if filled(name) {
			note("a value cannot be named like a placeholder", "values", name)
		}
		if err := v.check(v.Default); err != nil {
			note(err.Error(), "values", name, "default")
		}
		for _, m := range inBraces.FindAllStringSubmatch(v.Default, -1) {
			if _, isValue := r.Values[m[1]]; filled(m[1]) || isValue {
				note(
					fmt.Sprintf("a default is taken as it stands: %s is not filled in here", m[0]), "values", name,
					"default",
				)
			}
		}
	}
	tiled := r.uses(func(name string) bool { return strings.HasPrefix(name, "tile") })
	switch {
	case r.Tiles != "" && !tiled:
		note(
			"nothing tells the renderer which rectangle: use {tile_left}, {tile_top}, {tile_right} and {tile_bottom}",
			"tiles",
		)
	case r.Tiles != "" && (r.Mode == farm.ModeFeed || r.Mode == farm.ModeWhole):
		note(fmt.Sprintf("a renderer of the mode %s renders no tiles", r.Mode), "tiles")
	case r.Tiles == WritesWhole && r.Picture != "png":
		note("what writes pictures of the whole size for tiles has to write png", "tiles")
	}
	switch {
	case r.Reads == "" && len(r.Scenes) == 0:
		note("scenes is missing: endings of the scenes that it reads")
	case r.Reads == ReadsSequence && r.Mode != farm.ModeSingle:
		note("what makes one file of all frames renders one frame, and a launch each: write mode: single", "mode")
	}
	for _, source := range r.Shot {
		if err := source.check(r.Values); err != nil {
			note(err.Error(), "shot")
		}
	}
	found = append(found, r.checkArguments()...)
	for _, name := range slices.Sorted(maps.Keys(r.Environment)) {
		for _, what := range r.checkPlaceholders(r.Environment[name]) {
			note(what, "environment", name)
		}
	}
	found = append(found, r.checkProgram()...)
	found = append(found, r.checkOutputs()...)
	found = append(found, r.checkPatterns()...)
	if r.Format == 1 {
		for _, field := range r.newInForm2() {
			note("it is of the second form of recipes: write recipe: 2", field...)
		}
	}
	return found
}

// conditions are what groups of arguments may wait for besides values.
var conditions = map[string]bool{"tile": true, "checkpoint": true}

// checkArguments returns what is wrong with arguments.
func (r *Recipe) checkArguments() (found []fileschema.Wrong) {
	note := func(what string, path ...string) { found = append(found, fileschema.Wrong{Path: path, What: what}) }
	for i, a := range r.Arguments {
		at := fmt.Sprint(i)
		for field, name := range map[string]string{"when": a.When, "words": a.Words} {
			if _, isValue := r.Values[name]; name != "" && !isValue && (field != "when" || !conditions[name]) {
				note(fmt.Sprintf("there is no value %s", name), "arguments", at, field)
			}
		}
		if _, err := shellquote.Split(r.Values[a.Words].Default); err != nil {
			note("a quote in its default has no end", "values", a.Words, "default")
		}
		if a.Words != "" && (len(a.Texts) > 0 || a.Each) {
			note("words of a value stand alone in their group", "arguments", at)
		}
		for k, text := range a.Texts {
			path := []string{"arguments", at}
			if a.group() {
				path = append(path, "arguments", fmt.Sprint(k))
			}
			for _, what := range r.checkPlaceholders(text) {
				note(what, path...)
			}
		}
	}
	if f := r.ResponseFile; f != nil && !strings.Contains(f.Argument, "{response_file}") {
		note("it has to name the file: {response_file}", "response_file", "argument")
	}
	return found
}

const shellRefused = " is a shell, which would take values apart and run what stands in them; name the renderer itself"

// shells would take values apart, and whatever stands in them would be run.
var shells = []string{
	"sh", "bash", "dash", "zsh", "ksh", "csh", "tcsh", "fish", "busybox", "cmd", "powershell", "pwsh", "wscript",
	"cscript",
}

// checkProgram returns what is wrong with the program and its versions.
func (r *Recipe) checkProgram() (found []fileschema.Wrong) {
	for _, system := range []string{"", "linux", "darwin", "windows"} {
		for i, name := range r.Program.Candidates(system) {
			base := strings.ToLower(path.Base(strings.ReplaceAll(name, `\`, "/")))
			if !slices.Contains(shells, strings.TrimSuffix(base, ".exe")) {
				continue
			}
			at := []string{"program"}
			if system != "" && r.Program.only == "" {
				at = append(at, system, fmt.Sprint(i))
			}
			found = append(found, fileschema.Wrong{Path: at, What: name + shellRefused})
		}
		if r.Program.only != "" {
			break
		}
	}
	for i, a := range r.Arguments[:min(3, len(r.Arguments))] { // of a program that starts another
		if len(a.Texts) == 1 && slices.Contains(shells, strings.ToLower(path.Base(a.Texts[0]))) {
			at := []string{"arguments", fmt.Sprint(i)}
			found = append(found, fileschema.Wrong{Path: at, What: a.Texts[0] + shellRefused})
		}
	}
	wrong := r.Probe.check()
	for _, field := range slices.Sorted(maps.Keys(wrong)) {
		found = append(found, fileschema.Wrong{Path: []string{"probe", field}, What: wrong[field]})
	}
	return found
}

// checkOutputs returns what is wrong with what is written.
func (r *Recipe) checkOutputs() (found []fileschema.Wrong) {
	note := func(what string, path ...string) { found = append(found, fileschema.Wrong{Path: path, What: what}) }
	if (r.FrameFile == "") == (r.FrameName == "") {
		note("write either frame_file, a pattern of names, or frame_name, the name with placeholders")
	}
	for _, what := range r.checkName(r.FrameName) {
		note(what, "frame_name")
	}
	if r.Picture == "data" && r.Ending == "" && path.Ext(r.FrameName) == "" && !strings.HasSuffix(r.FrameName, "}") {
		note("files that are data have no ending of their own; write one, such as ending: .csv", "picture")
	}
	if _, there := r.Outputs[r.Checkpoint]; r.Checkpoint != "" && !there {
		note(fmt.Sprintf("there is no output %s", r.Checkpoint), "checkpoint")
	}
	if r.Checkpoint != "" && r.Mode != farm.ModeWhole {
		note("only renderers of the mode whole go on from one; others begin with any frame", "checkpoint")
	}
	for field, all := range map[string]map[string]Output{"passes": r.Passes, "outputs": r.Outputs} {
		for _, name := range slices.Sorted(maps.Keys(all)) {
			o := all[name]
			if (o.File == "") == (o.Name == "") {
				note("write either file, a pattern of names, or name, with placeholders", field, name)
			}
			for _, what := range r.checkName(o.Name) {
				note(what, field, name, "name")
			}
			if err := o.Size.check(); err != nil {
				note(err.Error(), field, name, "size")
			}
			if o.Picture == "data" && o.Ending == "" && path.Ext(o.Name) == "" {
				note(
					"files that are data have no ending of their own; write one, such as ending: .csv", field, name,
					"picture",
				)
			}
			if _, twice := r.Passes[name]; twice && field == "outputs" {
				note("there is a pass of this name, too", field, name)
			}
		}
	}
	return found
}

// checkName returns what is wrong with a name that has placeholders.
func (r *Recipe) checkName(text string) []string {
	if strings.HasPrefix(text, "/") || strings.Contains(text, "..") || strings.Contains(text, `\\`) {
		return []string{"it lies below the staging folder, and is written with slashes"}
	}
	return r.checkPlaceholders(text)
}

// newInForm2 returns the fields that recipes of the first form do not have.
func (r *Recipe) newInForm2() (fields [][]string) {
	add := func(there bool, path ...string) {
		if there {
			fields = append(fields, path)
		}
	}
	for i, a := range r.Arguments {
		add(a.group(), "arguments", fmt.Sprint(i))
	}
	add(r.Program.only == "", "program")
	add(r.Picture == "exr" || r.Picture == "data", "picture")
	for field, there := range map[string]bool{
		"outputs": len(r.Outputs) > 0, "checkpoint": r.Checkpoint != "", "numbering": r.Numbering != nil,
		"response_file": r.ResponseFile != nil, "tiles": r.Tiles != "", "plugins": len(r.Plugins) > 0,
		"reads":      r.Reads != "",
		"frame_time": r.FrameTime != 0, "threads": r.Threads != 0, "role": r.Role != "", "ending": r.Ending != "",
		"check": len(r.Check) > 0, "frame_name": r.FrameName != "", "inputs": len(r.Inputs) > 0,
	} {
		add(there, field)
	}
	for field, there := range map[string]bool{
		"percent": r.Read.Percent != "", "codes": len(r.Read.Codes) > 0, "ends": r.Read.Ends != "",
		"seconds": r.Read.Seconds != "", "memory": r.Read.Memory != nil, "warnings": len(r.Read.Warnings) > 0,
	} {
		add(there, "read", field)
	}
	for i, c := range r.Read.Causes {
		add(c.Always, "read", "causes", fmt.Sprint(i), "always")
	}
	for _, name := range slices.Sorted(maps.Keys(r.Passes)) {
		o := r.Passes[name]
		add(
			o.Name != "" || o.Optional || o.Size != "" || o.Ending != "" || len(o.Check) > 0 || o.Picture == "data",
			"passes", name,
		)
	}
	for _, source := range r.Shot {
		add(len(r.Shot) > 1 || len(source.Command) > 0 || source.File == "{scene}" || source.Width != (Told{}) ||
			source.Height != (Told{}) || source.Cameras+source.Layers != "", "shot")
	}
	for _, name := range slices.Sorted(maps.Keys(r.Values)) {
		add(r.Values[name].Needed, "values", name, "needed")
	}
	add(slices.Contains(r.Scenes, anyScene), "scenes")
	add(r.Probe.Least != "", "probe", "least")
	add(r.Probe.Below != "", "probe", "below")
	add(r.Probe.NoVersion, "probe", "no_version")
	return fields
}

// braced is what may be meant as a placeholder: a brace followed by a letter, closed or not.
var braced = regexp.MustCompile(`\{[ \t]*[A-Za-z_][^{}]*\}?`)

// word is a single word in braces.
var word = regexp.MustCompile(`^[A-Za-z_]+$`)

// malformed says what is wrong with text that looks like a placeholder and is not one. It returns
// nothing for other text in braces, such as {x=1} in some program's own language.
func (r *Recipe) malformed(text string) string {
	inside := strings.Trim(text, "{} \t")
	name := strings.ToLower(strings.FieldsFunc(inside, func(c rune) bool {
		return c != '_' && (c < 'a' || c > 'z') && (c < 'A' || c > 'Z')
	})[0])
	_, isValue := r.Values[name]
	if !isValue && !filled(name) && !word.MatchString(inside) {
		return ""
	}
	switch _, form, _ := strings.Cut(inside, ":"); {
	case !strings.HasSuffix(text, "}"):
		return fmt.Sprintf("the brace of %s is not closed", text)
	case !isValue && !filled(name):
		return fmt.Sprintf("nothing fills in the placeholder %s", text)
	case form != "":
		return fmt.Sprintf("%s is not how digits are written; write a zero and how many, such as {%s:04}", text, name)
	case strings.ContainsAny(inside, "*/%+-"):
		return fmt.Sprintf("%s cannot be worked out; a whole number can be added, such as {%s-1}", text, name)
	}
	return fmt.Sprintf("%s is not how a placeholder is written; write {%s}", text, name)
}

// checkPlaceholders returns what is wrong with the placeholders of a text.
func (r *Recipe) checkPlaceholders(text string) (found []string) {
	for _, other := range braced.FindAllString(inBraces.ReplaceAllString(text, ""), -1) {
		if what := r.malformed(other); what != "" && !r.kept {
			found = append(found, what)
		}
	}
	for _, m := range inBraces.FindAllStringSubmatch(text, -1) {
		name, counts := m[1], m[2] != "" || m[3] != ""
		if better, ok := replaced[name]; ok {
			found = append(found, fmt.Sprintf(
				"the placeholder {%s} made a frame differ from run to run; write {%s}", name, better,
			))
			continue
		}
		value, isValue := r.Values[name]
		switch {
		case !isValue && !filled(name):
			found = append(found, fmt.Sprintf("nothing fills in the placeholder {%s}", name))
		case counts && !numbers[name] && (!isValue || value.Kind != "integer"):
			found = append(found, fmt.Sprintf("{%s} is no whole number, and %s counts with it", name, m[0]))
		}
	}
	return found
}

// checkPatterns returns what is wrong with regular expressions.
func (r *Recipe) checkPatterns() (found []fileschema.Wrong) {
	note := func(path []string, format string, args ...any) {
		found = append(found, fileschema.Wrong{Path: path, What: fmt.Sprintf(format, args...)})
	}
	look := func(text string, groups int, path ...string) {
		re, err := regexp.Compile(text)
		switch {
		case err != nil:
			note(path, "%v", err)
		case text != "" && re.NumSubexp() < groups:
			note(path, "the pattern %q needs %s", text, english.Plural(groups, "group", ""))
		case text != "" && matchesAll(re):
			note(path, "the pattern %q matches everything", text)
		}
	}
	if r.Probe.Version != "" {
		look(r.Probe.Version, 1, "probe", "version")
	}
	look(r.FrameFile, 1, "frame_file")
	look(r.Read.Begins, 1, "read", "begins")
	look(r.Read.Ends, 0, "read", "ends")
	look(r.Read.Seconds, 1, "read", "seconds")
	look(r.Read.Progress, 2, "read", "progress")
	look(r.Read.Percent, 1, "read", "percent")
	if m := r.Read.Memory; m != nil {
		look(m.Match, 1, "read", "memory", "match")
	}
	for i, text := range r.Read.Warnings {
		look(text, 0, "read", "warnings", fmt.Sprint(i))
	}
	for field, all := range map[string]map[string]Output{"passes": r.Passes, "outputs": r.Outputs} {
		for _, name := range slices.Sorted(maps.Keys(all)) {
			look(all[name].File, 1, field, name, "file")
		}
	}
	for i, source := range r.Shot {
		at := []string{"shot"}
		if len(r.Shot) > 1 {
			at = append(at, fmt.Sprint(i))
		}
		for name, p := range source.patterns() {
			look(p.text, p.groups, slices.Concat(at, strings.Split(name, "."))...)
		}
	}
	for i, in := range r.Inputs {
		look(in.Match, 1, "inputs", fmt.Sprint(i), "match")
	}
	for i, c := range r.Read.Causes {
		look(c.Match, 0, "read", "causes", fmt.Sprint(i), "match")
	}
	return found
}

// matchesAll reports whether a pattern says nothing: it matches whatever there is.
func matchesAll(re *regexp.Regexp) bool {
	for _, text := range []string{"~", "qzx 0", "7", "Wk.Jv"} {
		if !re.MatchString(text) {
			return false
		}
	}
	return true
}
