package compare

import (
	"slices"

	"nurvik/core/facts"
	"nurvik/core/pki"
)

// Aspect is what a difference is about.
type Aspect string

// The aspects. What is about none of the first five is told and never matters.
const (
	Names    Aspect = "names"
	Key      Aspect = "key"
	Usages   Aspect = "usages"
	Chain    Aspect = "chain"
	Strength Aspect = "strength"
	Subject  Aspect = "subject"
	Issue    Aspect = "issue" // serial number, dates and issuer
	Others   Aspect = "extensions"
	Settings Aspect = "settings" // of visits
)

// Ignorable are the aspects whose differences can be left out of the answer.
var Ignorable = []Aspect{Names, Key, Usages, Chain, Strength}

// Difference is one difference in words.
type Difference struct {
	Aspect  Aspect `json:"aspect" enum:"names,key,usages,chain,strength,subject,issue,extensions,settings"`
	Text    string `json:"text"`
	Matters bool   `json:"matters" doc:"Somebody relies on what is gone"`
	Ignored bool   `json:"ignored,omitempty" doc:"It would matter, and the call leaves it out"`

	brief string // for the sentence on top, "" for none
}

// Row is one field, side by side.
type Row struct {
	Field  string   `json:"field"`
	First  []string `json:"first"`
	Second []string `json:"second"`
	Same   bool     `json:"same"`
}

// Pair is two things that were compared with each other.
type Pair struct {
	First       Thing        `json:"first"`
	Second      Thing        `json:"second"`
	Rows        []Row        `json:"rows"`
	Differences []Difference `json:"differences"`
}

// Thing is what was compared.
type Thing struct {
	Kind   facts.ItemKind  `json:"kind"`
	Label  string          `json:"label"`
	SHA256 pki.Fingerprint `json:"sha256" doc:"Of the DER; of a key, of its SubjectPublicKeyInfo"`
}

// Result is what two sides do not have in common.
type Result struct {
	First       string       `json:"first"`
	Second      string       `json:"second"`
	Sentence    string       `json:"sentence" doc:"The one thing to know"`
	Matters     bool         `json:"matters" doc:"They differ in what matters and is not ignored"`
	Pairs       []Pair       `json:"pairs"`
	Rows        []Row        `json:"rows" doc:"Of the sides as a whole: chains, and settings of visits"`
	Differences []Difference `json:"differences" doc:"Of the sides as a whole"`
	Unknown     []string     `json:"unknown" doc:"What is there and could not be compared"`
}

// Compare compares the sides. Differences of the ignored aspects are told and do not matter.
func Compare(first, second Side, ignored ...Aspect) *Result {
	r := &Result{First: first.Name, Second: second.Name, Pairs: []Pair{}, Rows: []Row{}, Differences: []Difference{},
		Unknown: slices.Concat([]string{}, first.unknown, second.unknown)}
	pairs, onlyFirst, onlySecond := match(first.things(&second), second.things(&first))
	for _, p := range pairs {
		r.Pairs = append(r.Pairs, compareThings(&p[0], &p[1]))
	}
	c := &comparison{differences: r.Differences}
	for _, t := range onlyFirst {
		c.add(Names, true, count(len(onlyFirst), word(t.kind))+" fewer", "%s has no %s for %s.", second.Name,
			word(t.kind), t.label)
	}
	for _, t := range onlySecond {
		c.add(Names, false, count(len(onlySecond), word(t.kind))+" more", "%s also has the %s of %s.", second.Name,
			word(t.kind), t.label)
	}
	c.keys(&first, &second)
	c.chains(&first, &second)
	c.settings(&first, &second)
	r.Rows, r.Differences = append(r.Rows, c.rows...), c.differences
	each := func(list []Difference) {
		for i := range list {
			if list[i].Matters && slices.Contains(ignored, list[i].Aspect) {
				list[i].Matters, list[i].Ignored = false, true
			}
			r.Matters = r.Matters || list[i].Matters
		}
	}
	for i := range r.Pairs {
		each(r.Pairs[i].Differences)
	}
	each(r.Differences)
	r.Sentence = r.sentence(c.together)
	return r
}

func word(kind facts.ItemKind) string {
	switch kind {
	case facts.Request:
		return "request"
	case facts.PrivateKey:
		return "key"
	}
	return "certificate"
}
