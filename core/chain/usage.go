package chain

import (
	"slices"

	"nurvik/core/pki"
)

// usageFailure looks for a certificate that restricts what it may be used for,
// and leaves out what the path is used for (RFC 5280, 4.2.1.12). Authorities
// that restrict themselves restrict what is below them, as clients read it.
func usageFailure(path []*pki.Certificate, usage pki.OID) []Failure {
	if usage == "" {
		return nil
	}
	for i, c := range path[:len(path)-1] {
		if c.HasExtKeyUsage && !slices.Contains(c.ExtKeyUsage, usage) && !slices.Contains(c.ExtKeyUsage, pki.UsageAny) {
			what := "it may be used for "
			if i > 0 {
				what = "what it issues may be used for "
			}
			return []Failure{{UsageNotAllowed, c, what + usageWords(c.ExtKeyUsage) + " only"}}
		}
	}
	return nil
}

func usageWords(ids []pki.OID) string {
	out := ""
	for i, id := range ids {
		switch {
		case i == 0:
		case i == len(ids)-1:
			out += " and "
		default:
			out += ", "
		}
		out += id.Words()
	}
	if out == "" {
		return "nothing"
	}
	return out
}
