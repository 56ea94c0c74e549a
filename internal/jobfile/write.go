package jobfile

import (
	"fmt"
	"strings"

	"github.com/goccy/go-yaml"

	"vexillum/internal/wire"
)

// Write returns a job file for a scene, with comments: what the scene says stands in it,
// and what else may be said stands behind #.
func Write(project string, s wire.Scene) string {
	var b strings.Builder
	line := func(format string, args ...any) { fmt.Fprintf(&b, format+"\n", args...) }
	field := func(indent int, said bool, name, value, comment string) {
		mark := "# "
		if said {
			mark = ""
		}
		text := fmt.Sprintf("%s%s%s: %s", strings.Repeat(" ", indent), mark, name, value)
		if comment != "" {
			text = fmt.Sprintf("%-46s # %s", text, comment)
		}
		line("%s", text)
	}
	line("# A job file: jobs that are submitted together, all of them or none.")
	line("# Check it with: vexillum job check FILE; submit it with: vexillum job submit FILE")
	line("job_file: %d", Version)
	field(0, true, "project", quoted(project), "")
	line("jobs:")
	line("  - name: %s", quoted(s.Job))
	field(4, true, "scene", quoted(s.Scene), "")
	field(4, true, "recipe", quoted(s.Recipe), s.RecipeTitle)
	preset, names := "", []string{}
	for _, p := range s.Presets {
		names = append(names, p.Name)
		if p.Mine || preset == "" {
			preset = p.Name
		}
	}
	if preset != "" {
		field(4, false, "preset", preset, "there is "+strings.Join(names, ", "))
	}
	if s.Shot != "" {
		field(4, true, "frames", quoted(s.Shot), told(s.File, "as "+s.ShotRun+" had it"))
	} else {
		field(4, true, "frames", "1-1", "the scene does not say how long it is")
	}
	if s.Width > 0 {
		field(4, true, "size", fmt.Sprintf("%dx%d", s.Width, s.Height), told(s.File, ""))
	} else {
		field(4, false, "size", "1920x1080", "pixels")
	}
	writeEach(&b, s)
	if len(s.Values) > 0 {
		line("    values:")
		said := false
		for _, v := range s.Values {
			said = said || v.FromScene || v.Needed
			comment := v.Help
			if len(v.Choices) > 0 {
				comment = strings.Join(append([]string{}, v.Choices...), ", ")
			}
			field(6, v.FromScene || v.Needed, v.Name, quoted(v.Default), comment)
		}
		if !said { // an empty list of fields is none
			text := b.String()
			b.Reset()
			b.WriteString(strings.Replace(text, "\n    values:\n", "\n    # values:\n", 1))
		}
	}
	if len(s.Passes) > 0 {
		var passes []string
		for _, p := range s.Passes {
			passes = append(passes, p.Name)
		}
		field(4, false, "passes", "["+strings.Join(passes, ", ")+"]", "written beside the picture")
	}
	field(4, false, "priority", "normal", "urgent, high, normal, low, filler")
	field(4, false, "ceiling", "50%", "the most nodes at once")
	field(4, false, "needs", quoted("memory>=32GiB"), "what a node must be")
	field(4, false, "pools", "[graphics]", "only nodes of these pools")
	field(4, false, "without", "[desk-nadia]", "not these nodes")
	field(4, false, "due", "2031-03-04T18:00:00+01:00", "when it must be ready")
	field(4, false, "held", "true", "into the queue, but held")
	field(4, false, "proof", "{every: 12, scale: 50%}", "what a proof has otherwise: vexillum job submit --proof")
	field(4, false, "after", "[other_job]", "jobs of this file, or runs, that have to be done before")
	return b.String()
}

// writeEach writes which cameras and layers there are to choose among.
func writeEach(b *strings.Builder, s wire.Scene) {
	var lists, names []string
	for _, each := range []struct {
		name string
		list []string
	}{{"camera", s.Cameras}, {"layer", s.Layers}} {
		if len(each.list) < 2 {
			continue
		}
		var all []string
		for _, v := range each.list {
			all = append(all, quoted(v))
		}
		names = append(names, each.name)
		lists = append(lists, fmt.Sprintf("%s: [%s]", each.name, strings.Join(all, ", ")))
	}
	if len(lists) > 0 {
		fmt.Fprintf(b, "    # a run and a folder of its own for each %s:\n", strings.Join(names, " and "))
		fmt.Fprintf(b, "    # each: {%s}\n", strings.Join(lists, ", "))
	}
}

func told(file, otherwise string) string {
	if file == "" {
		return otherwise
	}
	return "as " + file + " says"
}

// quoted writes a text as YAML reads it back.
func quoted(text string) string {
	out, err := yaml.Marshal(text)
	if err != nil || strings.Contains(strings.TrimSpace(string(out)), "\n") {
		return fmt.Sprintf("%q", text)
	}
	return strings.TrimSpace(string(out))
}
