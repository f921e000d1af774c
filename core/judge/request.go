package judge

import (
	"crypto"
	"errors"
	"fmt"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"golang.org/x/text/language"

	"nurvik/core/facts"
	"nurvik/core/naming"
	"nurvik/core/pki"
)

// Attributes of a subject that are looked at (X.520; RFC 5280, appendix A.1).
const (
	attributeCountry pki.OID = "2.5.4.6"
	attributeEmail   pki.OID = "1.2.840.113549.1.9.1"
)

// longest values of attributes, in characters (RFC 5280, appendix A.1, upper bounds).
var longest = map[pki.OID]int{"2.5.4.3": 64, "2.5.4.5": 64, "2.5.4.6": 2, "2.5.4.7": 128, "2.5.4.8": 128,
	"2.5.4.10": 64, "2.5.4.11": 64, "2.5.4.12": 64, attributeEmail: 255}

// requestFit says what keeps a request from being fit to be sent to a CA.
func requestFit(m *material) []Finding {
	var out []Finding
	for i := range m.pieces {
		p := &m.pieces[i]
		if p.item.Kind != facts.Request || p.brief == nil || len(p.item.DER) == 0 {
			continue
		}
		r, err := pki.ParseRequest(p.item.DER)
		if err != nil {
			continue // told as damaged
		}
		q := &requested{Request: r}
		q.itself()
		q.names(m.context.Names)
		q.subject()
		out = append(out, p.located(q.out)...)
	}
	return out
}

// requested is a request under judgement.
type requested struct {
	*pki.Request
	out []Finding
}

func (q *requested) add(code, message string, args ...any) {
	whose := q.Label()
	f := found(code, pki.FingerprintOf(q.Raw).String()+" "+code, whose, "The certificate request (CSR) of %s "+message,
		append([]any{whose}, args...)...)
	f.Evidence.Names, f.Evidence.Key = q.Wanted.HostNames(), q.PublicKey.String()
	q.out = append(q.out, f)
}

// itself looks at the signature and at what is asked for.
func (q *requested) itself() {
	if errors.Is(q.CheckSignature(), pki.ErrBadSignature) {
		q.add("request.bad-signature", "was not signed with the key that is in it.")
	}
	if h := q.SignatureAlgorithm.Hash; h == crypto.MD5 || h == crypto.SHA1 || q.SignatureAlgorithm.HashName() == "MD2" {
		q.add("request.weak-hash", "is signed with %s.", q.SignatureAlgorithm.Name)
	}
	if b := q.Wanted.BasicConstraints; b != nil && b.CA ||
		q.Wanted.KeyUsage&(pki.UsageCertificateSigning|pki.UsageRevocationSigning) != 0 {
		q.add("request.asks-authority", "asks for the certificate of a CA.")
	}
	var odd []string
	for _, id := range q.Wanted.ExtKeyUsage {
		if id != pki.UsageServerAuth && id != pki.UsageClientAuth {
			odd = append(odd, id.Words())
		}
	}
	if len(odd) > 0 {
		q.add("request.unusual-usage", "asks for %s, which a server does not need.", joined(odd))
	}
	if q.ChallengePassword {
		q.add("request.challenge-password", "has a challenge password in it, which everybody can read.")
	}
}

// names looks at the names that are asked for, and at those that are needed.
func (q *requested) names(needed []naming.Reference) {
	if len(q.Wanted.AltNames) == 0 {
		q.add("request.no-names", "asks for no alternative names (SAN).")
	}
	for _, r := range naming.Remarks(q.Wanted) {
		if code := remarkCodes[r.Kind]; r.Kind != naming.Internal { // a private CA may be asked
			q.add(code, "has the entry %s: %s.", r.Entry, r.Reason)
			f := &q.out[len(q.out)-1]
			f.Subject += " " + r.Entry
			if r.Kind == naming.Broad {
				f.Severity = Risk
			}
		}
	}
	var lacking []string
	for _, name := range q.Wanted.HostNames() {
		name = strings.ToLower(name)
		for _, prefix := range []string{"www.", "*."} {
			base, has := strings.CutPrefix(name, prefix)
			if r, err := naming.Parse(base); has && err == nil && strings.Contains(base, ".") {
				if _, covered := r.CoveredBy(q.Wanted); !covered && !slices.Contains(lacking, base) {
					lacking = append(lacking, base)
				}
			}
		}
	}
	if len(lacking) > 0 {
		q.add("request.base-name-missing", "lacks %s, which stands beside the name with www or the wildcard as a rule.",
			joined(lacking))
	}
	q.out = append(q.out, uncoveredAsRequested(q.Label(), q.Wanted, needed)...)
}

// subject looks at the fields of the subject.
func (q *requested) subject() {
	var long, odd, empty []string
	for _, component := range q.Subject.Components {
		for _, a := range component {
			word := a.Type.Words()
			switch value := a.Value; {
			case strings.Trim(value, " .-") == "":
				empty = append(empty, word)
				continue
			case a.Type == attributeCountry:
				if region, err := language.ParseRegion(value); err != nil || len(value) != 2 || !region.IsCountry() ||
					value != strings.ToUpper(value) {
					q.add("request.country", "has the country %q, which is no code of ISO 3166.", pki.Printable(value))
				}
				continue
			case longest[a.Type] > 0 && utf8.RuneCountInString(value) > longest[a.Type]:
				long = append(long, fmt.Sprintf("%s (%d characters, at most %d)", word, utf8.RuneCountInString(value),
					longest[a.Type]))
			}
			if strings.ContainsFunc(a.Value, func(r rune) bool {
				return unicode.IsControl(r) || r == utf8.RuneError || strings.ContainsRune(`<>~!$%^?\;"`, r) ||
					r == '@' && a.Type != attributeEmail
			}) || strings.TrimSpace(a.Value) != a.Value {
				odd = append(odd, word)
			}
		}
	}
	if len(long) > 0 {
		q.add("request.field-length", "has fields that are too long: %s.", joined(long))
	}
	if len(odd) > 0 {
		q.add("request.characters", "has characters that CAs refuse in %s.", joined(odd))
	}
	if len(empty) > 0 {
		q.add("request.empty-field", "has nothing in %s.", joined(empty))
	}
}
