// Command licences lists what the program and its console are made of besides our own code,
// with the licence of each part, as Markdown.
package main

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
)

// part is a module or package of others.
type part struct{ name, version, licence string }

// marks are sentences by which licences are known, the more special first.
var marks = []struct{ text, name string }{
	{"Mozilla Public License", "MPL-2.0"},
	{"Apache License", "Apache-2.0"},
	{"Permission to use, copy, modify, and distribute this software for any", "ISC"},
	{"Permission to use, copy, modify, and/or distribute this software for any", "ISC"},
	{"Permission is hereby granted, free of charge", "MIT"},
	{"Neither the name", "BSD-3-Clause"},
	{"Redistribution and use in source and binary forms", "BSD-2-Clause"},
	{"released into the public domain", "Unlicense"},
}

func main() {
	goParts, err := goModules()
	if err == nil {
		var npm []part
		if npm, err = npmPackages("web/package-lock.json"); err == nil {
			write("Go modules in the program", goParts)
			write("npm packages in the console", npm)
			return
		}
	}
	fmt.Fprintln(os.Stderr, err)
	os.Exit(1)
}

func write(title string, parts []part) {
	if strings.HasPrefix(title, "Go") {
		fmt.Print("# Licences of what we build on\n\nMade by `make licences`.\n")
	}
	fmt.Printf("\n## %s\n\n| name | version | licence |\n|---|---|---|\n", title)
	for _, p := range parts {
		fmt.Printf("| %s | %s | %s |\n", p.name, p.version, p.licence)
	}
}

// goModules returns the modules that the program links.
func goModules() ([]part, error) {
	out, err := exec.Command(
		"go", "list", "-deps", "-f", "{{with .Module}}{{if not .Main}}{{.Path}}\t{{.Version}}\t{{.Dir}}{{end}}{{end}}",
		"./cmd/vexillum",
	).Output()
	if err != nil {
		return nil, fmt.Errorf("listing the modules of the program: %w", err)
	}
	lines := strings.Split(strings.TrimSpace(string(out)), "\n")
	slices.Sort(lines)
	var parts []part
	for _, line := range slices.Compact(lines) {
		fields := strings.Split(line, "\t")
		if len(fields) != 3 {
			continue
		}
		licence, err := licenceIn(fields[2])
		if err != nil {
			return nil, fmt.Errorf("%s: %w", fields[0], err)
		}
		parts = append(parts, part{fields[0], fields[1], licence})
	}
	return parts, nil
}

// licenceIn names the licence of a module in a folder.
func licenceIn(folder string) (string, error) {
	entries, err := os.ReadDir(folder)
	if err != nil {
		return "", err
	}
	for _, e := range entries {
		name := strings.ToUpper(e.Name())
		if e.IsDir() || !strings.HasPrefix(name, "LICEN") && !strings.HasPrefix(name, "COPYING") && !strings.HasPrefix(name, "UNLICEN") {
			continue
		}
		text, err := os.ReadFile(filepath.Join(folder, e.Name()))
		if err != nil {
			return "", err
		}
		plain := strings.Join(strings.Fields(string(text)), " ")
		for _, m := range marks {
			if strings.Contains(plain, m.text) {
				return m.name, nil
			}
		}
	}
	return "", fmt.Errorf("no licence is known in %s; look at it by hand", folder)
}

// npmPackages returns the packages that end up in the console.
func npmPackages(lock string) ([]part, error) {
	text, err := os.ReadFile(lock)
	if err != nil {
		return nil, fmt.Errorf("reading the lock file: %w", err)
	}
	var all struct {
		Packages map[string]struct {
			Version, License string
			Dev              bool
		}
	}
	if err := json.Unmarshal(text, &all); err != nil {
		return nil, fmt.Errorf("reading the lock file: %w", err)
	}
	var parts []part
	for path, p := range all.Packages {
		if path == "" || p.Dev {
			continue
		}
		_, name, _ := strings.Cut(path, "node_modules/")
		if p.License == "" {
			return nil, fmt.Errorf("%s has no licence in the lock file; look at it by hand", name)
		}
		parts = append(parts, part{name, p.Version, p.License})
	}
	slices.SortFunc(parts, func(a, b part) int { return strings.Compare(a.name+a.version, b.name+b.version) })
	return parts, nil
}
