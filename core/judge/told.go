package judge

import (
	"nurvik/core/facts"
	"nurvik/core/pki"
)

// Told is what a configuration says that a place serves, as an address would show it.
type Told struct {
	Site     *facts.Site
	Leaves   []*pki.Certificate // of the configured certificates, in their order; nil for one that was not read
	Versions []facts.Version    // that are accepted, with their suites
	Groups   []string
	Refused  []string // versions that it is told to speak and the library does not
}

// ToldBy expands a configuration with the files that it names.
func ToldBy(c *facts.Configuration, files []facts.File, context Context) []Told {
	context.ready()
	context.begin()
	var out []Told
	for _, s := range configure(c, newMachine(files, nil, &context), &context).sites {
		t := Told{Site: s.Site, Refused: s.refused}
		for _, id := range s.identities {
			t.Leaves = append(t.Leaves, id.leaf)
		}
		if s.told != nil {
			t.Versions = s.told.seen.Versions
			if s.told.seen.Groups != nil {
				t.Groups = s.told.seen.Groups.Accepted
			}
		}
		out = append(out, t)
	}
	return out
}
