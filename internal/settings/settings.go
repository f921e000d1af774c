// Package settings fills in what a call leaves open: a flag that is not given
// takes its value from the environment (NURVIK_HARBOUR_PORT for
// --harbour-port), then from the configuration file, then from its default.
package settings

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/knadh/koanf/parsers/yaml"
	"github.com/knadh/koanf/providers/env/v2"
	"github.com/knadh/koanf/providers/file"
	"github.com/knadh/koanf/v2"
	"github.com/spf13/pflag"
)

const prefix = "NURVIK_"

// Secrets are settings that have no flag, because arguments can be read by others.
type Secrets struct {
	Token    string
	Password string // for keys and keystores; from the environment only
}

// DefaultFile is the configuration file of the program when none is named:
// under the user's configuration directory.
func DefaultFile(program string) string {
	directory, err := os.UserConfigDir()
	if err != nil {
		return ""
	}
	return filepath.Join(directory, "nurvik", program+".yaml")
}

// Apply sets every flag that was not given from environment and file. Known
// are the names of all flags of all commands, since one file serves them all.
// A file that was named must exist; unknown keys are an error.
func Apply(flags *pflag.FlagSet, known []string, path string, named bool) (Secrets, error) {
	k := koanf.New("/")
	if path != "" {
		err := k.Load(file.Provider(path), yaml.Parser())
		switch {
		case errors.Is(err, os.ErrNotExist) && !named:
		case err != nil:
			return Secrets{}, fmt.Errorf("configuration file %s: %w", path, err)
		}
	}
	for _, key := range k.Keys() {
		if key != "token" && !slices.Contains(known, key) {
			return Secrets{},
				fmt.Errorf("configuration file %s: the key %q is not known; keys are the names of the flags", path, key)
		}
	}
	environment := env.Provider("/", env.Opt{Prefix: prefix, TransformFunc: func(key, value string) (string, any) {
		return strings.ReplaceAll(strings.ToLower(strings.TrimPrefix(key, prefix)), "_", "-"), value
	}})
	if err := k.Load(environment, nil); err != nil {
		return Secrets{}, err
	}
	var failures []error
	flags.VisitAll(func(f *pflag.Flag) {
		if f.Changed || !k.Exists(f.Name) {
			return
		}
		values := k.Strings(f.Name)
		if len(values) == 0 {
			values = []string{k.String(f.Name)}
		}
		for _, value := range values {
			if err := flags.Set(f.Name, value); err != nil {
				failures = append(failures, fmt.Errorf("setting %s: %w", f.Name, err))
			}
		}
	})
	return Secrets{Token: k.String("token"), Password: os.Getenv(prefix + "PASSWORD")}, errors.Join(failures...)
}
