package compare

import (
	"strconv"
	"strings"

	"nurvik/core/facts"
)

// sentence says the one thing: what is the same, and what is gone.
func (r *Result) sentence(together string) string {
	var parts []string
	switch {
	case len(r.Pairs) == 1:
		parts = append(parts, r.Pairs[0].beginning())
	case len(r.Pairs) > 1:
		parts = append(parts, count(len(r.Pairs), "pair")+" compared")
		changed := 0
		for _, p := range r.Pairs {
			if p.matters() {
				changed++
			}
		}
		if changed > 0 {
			parts = append(parts, count(changed, "pair")+" with a difference that matters")
		}
	case together != "":
		parts = append(parts, together)
	}
	if len(r.Pairs) == 1 {
		parts = append(parts, r.Pairs[0].briefs()...)
	}
	parts = append(parts, briefs(r.Differences)...)
	if len(parts) == 0 {
		parts = append(parts, "nothing in common")
	}
	text := strings.Join(parts, ", ")
	return strings.ToUpper(text[:1]) + text[1:] + "."
}

// beginning is about the key: nothing else changes so much.
func (p *Pair) beginning() string {
	sameKey := true
	for _, row := range p.Rows {
		if row.Field == "key" {
			sameKey = row.Same
		}
	}
	request := p.First.Kind == facts.Request || p.Second.Kind == facts.Request
	key := p.First.Kind == facts.PrivateKey || p.Second.Kind == facts.PrivateKey
	switch {
	case p.First.SHA256 == p.Second.SHA256 && p.First.Kind == p.Second.Kind:
		return "The same " + word(p.First.Kind)
	case p.First.Kind == p.Second.Kind && sameKey:
		return "The same key"
	case key && sameKey:
		return "They belong together"
	case key && p.First.Kind == p.Second.Kind:
		return "Different keys"
	case key:
		return "They do not belong together: different keys"
	case request && p.First.Kind != p.Second.Kind && sameKey:
		return "The key of the request"
	case request && p.First.Kind != p.Second.Kind:
		return "Another key than the request's"
	}
	return "A new key"
}

func (p *Pair) matters() bool {
	for _, d := range p.Differences {
		if d.Matters {
			return true
		}
	}
	return false
}

// briefs are the differences of a pair, of names also that there are none.
func (p *Pair) briefs() []string {
	var out []string
	for _, row := range p.Rows {
		if row.Field == "names" && row.Same && p.First.SHA256 != p.Second.SHA256 {
			if p.First.Kind == facts.Request && p.Second.Kind == facts.Certificate {
				out = append(out, "all its names")
			} else {
				out = append(out, "the same names")
			}
		}
	}
	return append(out, briefs(p.Differences)...)
}

func briefs(list []Difference) []string {
	var out []string
	seen := map[string]bool{}
	for _, d := range list {
		if d.brief != "" && !seen[d.brief] {
			seen[d.brief] = true
			out = append(out, d.brief)
		}
	}
	return out
}

var numbers = []string{"no", "one", "two", "three", "four", "five", "six", "seven", "eight", "nine", "ten", "eleven",
	"twelve"}

// count says how many there are.
func count(n int, what string) string {
	number := strconv.Itoa(n)
	if n < len(numbers) {
		number = numbers[n]
	}
	if n != 1 {
		what += "s"
	}
	return number + " " + what
}
