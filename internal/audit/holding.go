package audit

import (
	"fmt"
	"path/filepath"

	"nurvik/core/facts"
	"nurvik/core/serverconf"
)

// Holding is what may leave the machine: the facts of files with whole paths, and of configurations what may be told.
func (p *Plan) Holding() (out []facts.File, err error) {
	at := map[string]int{}
	seen := map[string]int{}
	for _, file := range p.files {
		if file.Path, err = filepath.Abs(file.Path); err != nil {
			return nil, err
		}
		if file.Archive != "" {
			if file.Archive, err = filepath.Abs(file.Archive); err != nil {
				return nil, err
			}
		}
		if seen[file.Path]++; seen[file.Path] > 1 { // names that differ in characters that nobody can see
			file.Path = fmt.Sprintf("%s (%d)", file.Path, seen[file.Path])
		}
		at[file.Path] = len(out)
		out = append(out, file)
	}
	for _, c := range p.configurations {
		c := serverconf.Redacted(c)
		if c.Path, err = filepath.Abs(c.Path); err != nil {
			return nil, err
		}
		if i, both := at[c.Path]; both {
			out[i].Configuration = &c
			continue
		}
		out = append(out, facts.File{Schema: facts.Schema, Path: c.Path, Items: []facts.Item{}, Configuration: &c})
	}
	return out, nil
}
