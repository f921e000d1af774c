// Mutants changes one comparison or constant of a package at a time, and runs
// the package's tests on each. A change that no test notices is a survivor: it
// is in the package's testdata/survivors.yaml with the reason why it does no
// harm, or a test is missing and the program ends with 1.
package main

import (
	"cmp"
	"errors"
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"time"

	"go.yaml.in/yaml/v3"
)

// survivor is a change that no test needs to notice, or all that begin alike, where the name ends with an asterisk.
type survivor struct {
	Mutant string `yaml:"mutant"`
	Reason string `yaml:"reason"`
}

func (s survivor) is(m mutant) bool {
	begin, several := strings.CutSuffix(s.Mutant, "*")
	return s.Mutant == m.name || several && strings.HasPrefix(m.name, begin)
}

func main() {
	only := flag.String("only", "", "only mutants that contain this `TEXT`")
	listed := flag.Bool("listed", false, "only mutants that are listed as survivors")
	flag.Parse()
	if flag.NArg() != 1 {
		fmt.Fprintln(os.Stderr, "mutants: name one package, such as core/chain")
		os.Exit(2)
	}
	if err := run(flag.Arg(0), *only, *listed); err != nil {
		fmt.Fprintln(os.Stderr, "mutants:", err)
		os.Exit(1)
	}
}

func run(pkg, only string, listed bool) error {
	accepted, err := read(filepath.Join(pkg, "testdata", "survivors.yaml"))
	if err != nil {
		return err
	}
	all, err := mutantsOf(pkg)
	if err != nil {
		return err
	}
	all = slices.DeleteFunc(all, func(m mutant) bool {
		return !strings.Contains(m.name, only) ||
			listed && !slices.ContainsFunc(accepted, func(s survivor) bool { return s.is(m) })
	})
	work, err := os.MkdirTemp("", "nurvik-mutants-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(work)
	started := time.Now()
	outcomes := make([]outcome, len(all))
	var next, done int
	var mutex sync.Mutex
	var group sync.WaitGroup
	for worker := range runtime.GOMAXPROCS(0) {
		group.Go(func() {
			for {
				mutex.Lock()
				i := next
				next++
				mutex.Unlock()
				if i >= len(all) {
					return
				}
				outcomes[i] = all[i].try(pkg, filepath.Join(work, fmt.Sprint(worker)))
				mutex.Lock()
				if done++; outcomes[i] == survived {
					fmt.Printf("survived: %s\n", all[i].name)
				}
				fmt.Fprintf(os.Stderr, "\r%d of %d", done, len(all))
				mutex.Unlock()
			}
		})
	}
	group.Wait()
	fmt.Fprintln(os.Stderr)
	return tell(all, outcomes, accepted, only != "", time.Since(started))
}

// tell compares the survivors with those that are listed.
func tell(all []mutant, outcomes []outcome, accepted []survivor, some bool, took time.Duration) error {
	counts := map[outcome]int{}
	var problems []error
	met, needed := map[string]bool{}, map[string]bool{}
	for i, m := range all {
		counts[outcomes[i]]++
		known := false
		for _, s := range accepted {
			if s.is(m) {
				known, met[s.Mutant] = true, true
				needed[s.Mutant] = needed[s.Mutant] || outcomes[i] == survived
			}
		}
		if outcomes[i] == survived && !known {
			problems = append(problems, fmt.Errorf("no test notices: %s", m.name))
		}
	}
	for _, s := range accepted {
		switch {
		case met[s.Mutant] && !needed[s.Mutant]:
			problems = append(problems, fmt.Errorf("listed as a survivor, and a test notices it: %s", s.Mutant))
		case !met[s.Mutant] && !some:
			problems = append(problems, fmt.Errorf("listed as a survivor, and not in the code: %s", s.Mutant))
		}
	}
	fmt.Printf("%d mutants: %d killed, %d do not compile, %d survived (%d listed); %s\n", len(all), counts[killed],
		counts[broken], counts[survived], len(accepted), took.Round(time.Second))
	slices.SortFunc(problems, func(a, b error) int { return cmp.Compare(a.Error(), b.Error()) })
	return errors.Join(problems...)
}

func read(path string) ([]survivor, error) {
	text, err := os.ReadFile(path)
	if errors.Is(err, os.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	var out []survivor
	if err := yaml.Unmarshal(text, &out); err != nil {
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	for _, s := range out {
		if s.Reason == "" {
			return nil, fmt.Errorf("%s: %s has no reason", path, s.Mutant)
		}
	}
	return out, nil
}
