package judge

import (
	"slices"
	"strings"
)

// ofOthers judges the chains that other clients get like the usual one, and says who gets them. What is wrong with the
// usual chain too is told there.
func ofOthers(a *address) []Finding {
	if len(a.others) == 0 {
		return nil
	}
	told := ofChain(a.bundle)
	known := func(f Finding) bool {
		return slices.ContainsFunc(told, func(x Finding) bool { return x.Code == f.Code && x.Subject == f.Subject })
	}
	var out []Finding
	for _, b := range a.others {
		b.examine()
		for _, f := range ofChain(b) {
			area, _, _ := strings.Cut(f.Code, ".")
			if known(f) || len(b.names) == 0 && area == "name" || !b.asked && area == "revoke" {
				continue
			}
			f.Message += " This is what " + b.clients + " get."
			told, out = append(told, f), append(out, f)
		}
	}
	return out
}
