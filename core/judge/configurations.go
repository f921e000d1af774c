package judge

import (
	"nurvik/core/facts"
	"nurvik/core/pairing"
	"nurvik/core/pki"
	"nurvik/core/plain"
)

// Configurations judges what servers are told by their configuration, with the files that lie on the same machine and
// what is known of them together. The judgements of those files are changed where a configuration says more of them.
func Configurations(all []facts.Configuration, files []facts.File, ofFiles []Judgement, result *pairing.Result,
	context Context) []Judgement {
	context.ready()
	m := newMachine(files, result, &context)
	out := make([]Judgement, len(all))
	said := make([]map[string]bool, len(all)) // files of which a configuration says more
	InParallel(len(all), func(i int) {
		own := context
		own.begin()
		out[i], said[i] = configuration(&all[i], m, &own)
	})
	explained := map[string]bool{}
	for _, paths := range said {
		for path := range paths {
			explained[path] = true
		}
	}
	mismatched := map[string]bool{}
	for i := range out {
		for _, f := range out[i].Findings {
			if f.Code == keyMismatchCode {
				for _, path := range f.Evidence.Paths {
					mismatched[path] = true
				}
			}
		}
	}
	for i := range ofFiles {
		if mismatched[ofFiles[i].Target] { // the configuration says which of them are meant to fit
			ofFiles[i].without(func(f *Finding) bool { return f.Code == setMismatchCode })
		}
		ofFiles[i].without(func(f *Finding) bool {
			if !chainCodes[f.Code] {
				return false
			}
			if explained[ofFiles[i].Target] {
				return true
			}
			leaf, err := pki.ParseFingerprint(f.Subject)
			return err == nil && m.wholeOf(leaf) != ""
		})
	}
	return out
}

func configuration(c *facts.Configuration, m *machine, context *Context) (j Judgement, said map[string]bool) {
	j = Judgement{Target: c.Path, Kind: "configuration", Basis: context.basis(c.Schema), Chains: []Chain{},
		Certificates: []pki.Description{}}
	if context.over() {
		return Judgement{Target: c.Path, Kind: "configuration"}, nil
	}
	said = map[string]bool{}
	d := context.Report.Do(c.Path, func() {
		told := configure(c, m, context)
		j.settle(context, ofConfiguration(told))
		for _, s := range told.sites {
			for _, id := range s.identities {
				if id.file != nil && (id.Chain.Given() || len(id.file.Certificates()) == 1) {
					said[id.file.Path] = true
				}
			}
		}
	})
	if d != nil {
		j = NotJudged(c.Path, "configuration", context.basis(c.Schema), d)
	}
	plain.CleanLines(&j)
	return j, said
}

// without leaves out what a configuration says better than the file alone. That it holds the leaf only is right where
// the chain is named beside it, and told at its place in the configuration where it is not. A file that no server uses,
// whose leaf lies in another file with its whole chain, is a part of that set.
func (j *Judgement) without(is func(*Finding) bool) {
	kept := j.Findings[:0:0]
	for i := range j.Findings {
		if f := &j.Findings[i]; !is(f) {
			kept = append(kept, *f)
		}
	}
	if len(kept) < len(j.Findings) {
		j.Findings, j.Verdict = kept, verdictOf(kept)
	}
}
