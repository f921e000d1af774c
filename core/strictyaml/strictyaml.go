// Package strictyaml reads YAML documents that people write by hand: an
// unknown or misspelt key, a value of the wrong kind or a key given twice is
// an error with its line and, where one comes near, the key that was meant.
package strictyaml

import (
	"errors"
	"fmt"
	"reflect"
	"regexp"
	"slices"
	"strings"

	"go.yaml.in/yaml/v3"

	"nurvik/core/spelling"
)

// Error is a defect at a line of a named document.
type Error struct {
	Name string
	Line int // from 1; 0 when it is not known
	Text string
}

func (e *Error) Error() string {
	if e.Line == 0 {
		return fmt.Sprintf("%s: %s", e.Name, e.Text)
	}
	return fmt.Sprintf("%s:%d: %s", e.Name, e.Line, e.Text)
}

// Decode reads the document into the struct. Every defect is an *Error; all
// unknown keys are reported together.
func Decode(name string, data []byte, into any) error {
	var document yaml.Node
	if err := yaml.Unmarshal(data, &document); err != nil {
		return errorOf(name, err)
	}
	if len(document.Content) == 0 {
		return &Error{name, 0, "the document is empty"}
	}
	if err := bounded(name, &document); err != nil {
		return err
	}
	err := document.Decode(into)
	var mistyped *yaml.TypeError
	if err != nil && !errors.As(err, &mistyped) {
		return errorOf(name, err)
	}
	var failures []error
	check(name, document.Content[0], reflect.TypeOf(into).Elem(), &failures)
	if len(failures) > 0 {
		return errors.Join(failures...)
	}
	if err != nil {
		return errorOf(name, err)
	}
	return nil
}

var lineInMessage = regexp.MustCompile(`line (\d+): `)

// errorOf turns an error of the YAML package into one of ours.
func errorOf(name string, err error) error {
	text := strings.TrimPrefix(err.Error(), "yaml: ")
	var mistyped *yaml.TypeError
	if errors.As(err, &mistyped) && len(mistyped.Errors) > 0 {
		text = mistyped.Errors[0]
	}
	e := &Error{Name: name, Text: text}
	if m := lineInMessage.FindStringSubmatch(text); m != nil {
		_, _ = fmt.Sscan(m[1], &e.Line)
		e.Text = strings.Replace(text, m[0], "", 1)
	}
	return e
}

// check walks the document beside the type and reports keys that the type lacks.
func check(name string, node *yaml.Node, t reflect.Type, failures *[]error) {
	if node.Kind == yaml.AliasNode {
		node = node.Alias
	}
	for t.Kind() == reflect.Pointer {
		t = t.Elem()
	}
	switch {
	case node.Kind == yaml.SequenceNode && t.Kind() == reflect.Slice:
		for _, item := range node.Content {
			check(name, item, t.Elem(), failures)
		}
	case node.Kind == yaml.MappingNode && t.Kind() == reflect.Map:
		for i := 1; i < len(node.Content); i += 2 {
			check(name, node.Content[i], t.Elem(), failures)
		}
	case node.Kind == yaml.MappingNode && t.Kind() == reflect.Struct:
		fields := keysOf(t)
		for i := 0; i+1 < len(node.Content); i += 2 {
			key := node.Content[i]
			field, ok := fields[key.Value]
			if !ok {
				*failures = append(*failures, &Error{name, key.Line, unknown(key.Value, fields)})
				continue
			}
			check(name, node.Content[i+1], field, failures)
		}
	}
}

func keysOf(t reflect.Type) map[string]reflect.Type {
	fields := map[string]reflect.Type{}
	for f := range t.Fields() {
		key, options, _ := strings.Cut(f.Tag.Get("yaml"), ",")
		if strings.Contains(options, "inline") {
			for k, v := range keysOf(f.Type) {
				fields[k] = v
			}
		} else if key != "-" && key != "" {
			fields[key] = f.Type
		}
	}
	return fields
}

func unknown(key string, fields map[string]reflect.Type) string {
	var known []string
	for k := range fields {
		known = append(known, k)
	}
	slices.Sort(known)
	if best := spelling.Nearest(key, known); best != "" {
		return fmt.Sprintf("the key %q is not known; %q may be meant", key, best)
	}
	return fmt.Sprintf("the key %q is not known; known here: %s", key, strings.Join(known, ", "))
}
