// Notice writes NOTICE: the licences of everything that is linked into the
// programs or embedded in them. With -check it says whether the file is current.
package main

import (
	"bytes"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
)

// part is something that is linked or embedded.
type part struct{ name, version, kind, text string }

func main() {
	check := flag.Bool("check", false, "only say whether NOTICE is current")
	flag.Parse()
	if err := run(*check); err != nil {
		fmt.Fprintln(os.Stderr, "notice:", err)
		os.Exit(1)
	}
}

func run(check bool) error {
	modules, err := modules()
	if err != nil {
		return err
	}
	packages, err := packages("console")
	if err != nil {
		return err
	}
	text := render(append(modules, packages...))
	if !check {
		return os.WriteFile("NOTICE", text, 0o644)
	}
	present, err := os.ReadFile("NOTICE")
	if err != nil || !bytes.Equal(present, text) {
		return errors.New("NOTICE is not current; \"make notice\" writes it anew")
	}
	return nil
}

// modules are Go itself and the modules that the programs link.
func modules() ([]part, error) {
	root, err := exec.Command("go", "env", "GOROOT").Output()
	if err != nil {
		return nil, err
	}
	own, err := licence(strings.TrimSpace(string(root)))
	if err != nil {
		return nil, err
	}
	out := []part{{"Go standard library and runtime", "", kindOf(own), own}}
	for _, system := range [][]string{{"GOOS=linux"}, {"GOOS=js", "GOARCH=wasm"}} {
		command := exec.Command("go", "list", "-deps", "-f", "{{with .Module}}{{.Path}} {{.Version}} {{.Dir}}{{end}}",
			"./cmd/...")
		command.Env = append(os.Environ(), system...)
		list, err := command.Output()
		if err != nil {
			return nil, fmt.Errorf("go list: %w", err)
		}
		seen := map[string]bool{}
		for line := range strings.Lines(string(list)) {
			fields := strings.Fields(line)
			if len(fields) < 3 || seen[fields[0]] { // the main module has no version
				continue
			}
			seen[fields[0]] = true
			text, err := licence(fields[2])
			if err != nil {
				return nil, fmt.Errorf("%s: %w", fields[0], err)
			}
			out = append(out, part{fields[0], fields[1], kindOf(text), text})
		}
	}
	return out, nil
}

// packages are those of the console that are not for development alone.
func packages(console string) ([]part, error) {
	data, err := os.ReadFile(filepath.Join(console, "package-lock.json"))
	if err != nil {
		return nil, err
	}
	var lock struct {
		Packages map[string]struct {
			Version, License    string
			Dev, Optional, Peer bool
			DevOptional         bool
		}
	}
	if err := json.Unmarshal(data, &lock); err != nil {
		return nil, err
	}
	var out []part
	for _, path := range slices.Sorted(maps.Keys(lock.Packages)) {
		p := lock.Packages[path]
		if path == "" {
			continue
		}
		name := path[strings.LastIndex(path, "node_modules/")+len("node_modules/"):]
		if p.Dev || p.DevOptional || p.Optional || strings.HasPrefix(name, "@types/") {
			continue
		}
		text, err := licence(filepath.Join(console, path))
		if err != nil { // some publish the name of the licence alone
			text = ""
		}
		out = append(out, part{name, p.Version, p.License, text})
	}
	return out, nil
}

var licenceName = regexp.MustCompile(`(?i)^(licen[cs]e|copying|notice)([.-].*)?$`)

// licence is the text of all such files of a directory, in their order.
func licence(directory string) (string, error) {
	entries, err := os.ReadDir(directory)
	if err != nil {
		return "", err
	}
	var texts []string
	for _, e := range entries {
		if licenceName.MatchString(e.Name()) && e.Type().IsRegular() {
			data, err := os.ReadFile(filepath.Join(directory, e.Name()))
			if err != nil {
				return "", err
			}
			texts = append(texts, strings.TrimSpace(strings.ReplaceAll(string(data), "\r\n", "\n")))
		}
	}
	if len(texts) == 0 {
		return "", fmt.Errorf("no licence in %s", directory)
	}
	return strings.Join(texts, "\n\n"), nil
}

// kinds recognise licences by what only they say.
var kinds = []struct{ phrase, kind string }{
	{"Apache License", "Apache-2.0"}, {"Mozilla Public License", "MPL-2.0"}, {"GNU LESSER", "LGPL"}, {"GNU GENERAL",
		"GPL"},
	{"Neither the name", "BSD-3-Clause"}, {"Redistribution and use", "BSD-2-Clause"},
	{"Permission to use, copy, modify, and/or distribute", "ISC"}, {"Permission to use, copy, modify, and distribute",
		"ISC"},
	{"Permission is hereby granted, free of charge", "MIT"},
}

func kindOf(text string) string {
	flat := strings.Join(strings.Fields(text), " ")
	for _, k := range kinds {
		if strings.Contains(flat, k.phrase) {
			return k.kind
		}
	}
	return "see its text"
}

func render(parts []part) []byte {
	slices.SortFunc(parts, func(a, b part) int { return strings.Compare(a.name, b.name) })
	parts = slices.CompactFunc(parts, func(a, b part) bool { return a.name == b.name })
	var out bytes.Buffer
	out.WriteString("Nurvik links or embeds the software below. Made by \"make notice\"; do not edit.\n\n")
	for _, p := range parts {
		fmt.Fprintf(&out, "%-60s %-16s %s\n", p.name, p.version, p.kind)
	}
	for _, p := range parts {
		if p.text != "" {
			fmt.Fprintf(&out, "\n%s\n%s %s\n\n%s\n", strings.Repeat("=", 100), p.name, p.version, p.text)
		}
	}
	return out.Bytes()
}
