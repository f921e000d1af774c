package judge

import (
	"strings"

	"nurvik/core/facts"
	"nurvik/core/keycheck"
	"nurvik/core/pki"
	"nurvik/core/words"
)

// rootRemedy is what there is to do about a trust anchor.
const rootRemedy = "Nothing to do here: only the CA can change its root certificate, and clients that have it " +
	"accept it as it is."

// shortRootRemedy is the same for one whose key others may compute.
const shortRootRemedy = "Remove it from the trust store where nothing needs it: only the CA can make a root with " +
	"a longer key."

// keyStrength judges one public key. owner says whose it is: the certificate,
// request or key file, and match identifies it. anchor says that it is a trust anchor's, whose key
// nobody but its CA can change.
func keyStrength(context *Context, key pki.PublicKey, match pki.Fingerprint, anchor bool,
	owner func() string) []Finding {
	var out []Finding
	add := func(code, message string, args ...any) *Finding {
		whose := owner()
		f := found(code, key.Fingerprint().String(), whose, message, append([]any{whose}, args...)...)
		f.Evidence.Key = key.String()
		out = append(out, f)
		return &out[len(out)-1]
	}
	if severity := shortness(context, key); severity != None {
		f := add("key.too-short", "The key of %s is %s, which is too short.", key)
		if f.Severity = severity; anchor {
			f.Severity, f.Remedy = Note, shortRootRemedy
		}
	}
	if weaknesses := context.weaknesses(key, match); len(weaknesses) > 0 {
		var texts []string
		for _, w := range weaknesses {
			texts = append(texts, w.Text)
		}
		add("key.weak", "The key of %s is weak: %s.", strings.Join(texts, "; "))
	}
	if reason := keycheck.Unusual(key); reason != "" {
		f := add("key.unusual", "The key of %s is unusual: %s.", reason)
		if anchor {
			f.Remedy = rootRemedy
		}
	} else if !context.Policy.Keys.Allows(string(key.Algorithm), key.Curve) {
		f := add("key.unusual", "The key of %s is %s, which the policy does not allow. It allows %s.", key,
			joined(context.Policy.Keys.Allowed))
		f.Remedy = "Make a new key of a kind that the policy allows, and have a certificate issued for it."
	}
	if factor := context.Shared[match]; factor != nil {
		f := add("key.shared-prime", "The modulus of %s shares a prime factor of %d bits with that of another key.",
			factor.BitLen())
		for partner, other := range context.Shared {
			if partner != match && other.Cmp(factor) == 0 {
				f.Evidence.Observations = append(f.Evidence.Observations, "the other key: "+partner.String())
			}
		}
	}
	return out
}

func shortness(context *Context, key pki.PublicKey) Severity {
	limits := context.Policy.Keys
	switch key.Algorithm {
	case pki.KeyRSA, pki.KeyRSAPSS, pki.KeyDSA:
		if key.Bits > 0 && key.Bits < limits.ModulusFault {
			return Fault
		} else if key.Bits > 0 && key.Bits < limits.ModulusRisk {
			return Risk
		}
	case pki.KeyEC:
		if key.Bits > 0 && key.Bits < limits.CurveFault {
			return Fault
		}
	}
	return None
}

// keysOfPath examines the keys of the path below the anchor.
func keysOfPath(b *bundle) []Finding {
	var out []Finding
	for _, c := range b.assessed.path.Below() {
		for _, f := range keyStrength(b.context, c.PublicKey, c.PublicKey.Match(), false, c.Label) {
			f.Evidence.Certificate = fingerprint(c)
			out = append(out, f)
		}
	}
	return out
}

// keysOfFile examines the keys of requests and key files, and of certificates
// where these are judged without a chain.
func keysOfFile(m *material) []Finding {
	var out []Finding
	for i := range m.pieces {
		p := &m.pieces[i]
		if p.brief == nil {
			continue
		}
		var owner func() string
		switch p.item.Kind {
		case facts.Certificate:
			if !m.context.Material {
				continue
			}
			owner = func() string { return p.brief.Label }
		case facts.Request:
			owner = func() string { return "the request of " + p.brief.Label }
		case facts.PublicKey:
			owner = func() string { return "the public key at " + p.place() }
		case facts.PrivateKey:
			owner = func() string { return "the private key at " + p.place() }
		}
		out = append(out, p.located(keyStrength(m.context, p.brief.PublicKey(), p.brief.Match(), m.isAnchor(p),
			owner))...)
	}
	return out
}

// keyInconsistent tells of private keys whose halves do not agree.
func keyInconsistent(m *material) []Finding {
	var out []Finding
	for i := range m.pieces {
		p := &m.pieces[i]
		if p.item.Key == nil || len(p.item.Key.Problems) == 0 {
			continue
		}
		subject := "private key at " + p.place()
		if p.brief != nil {
			subject = p.brief.PublicKey().Fingerprint().String()
		}
		f := found("key.inconsistent", subject, p.place(), "The parts of the private key at %s do not agree: %s.",
			p.place(), words.Of(p.item.Key.Problems[0]))
		for _, problem := range p.item.Key.Problems {
			f.Evidence.Observations = append(f.Evidence.Observations, words.Of(problem))
		}
		f.Evidence.Key = p.item.Key.Type
		out = append(out, p.located([]Finding{f})...)
	}
	return out
}

// firstPrivate is the first private key of a file, and whether all of them are encrypted.
func (m *material) firstPrivate() (key *facts.Item, encrypted bool) {
	encrypted = true
	for i := range m.pieces {
		if item := m.pieces[i].item; item.Kind == facts.PrivateKey {
			if key == nil {
				key = item
			}
			encrypted = encrypted && item.Key.Encrypted
		}
	}
	return key, encrypted
}

// publishedDirectories are those that web servers publish by convention.
var publishedDirectories = []string{
	"/var/www/", "/srv/www/", "/srv/http/", "/usr/share/nginx/html/", "/public_html/", "/htdocs/", "/wwwroot/",
	"/webroot/",
}

func keyPublished(m *material) []Finding {
	key, _ := m.firstPrivate()
	if key == nil {
		return nil
	}
	slashed := "/" + strings.TrimPrefix(m.file.Path, "/")
	for _, directory := range publishedDirectories {
		if i := strings.Index(slashed, directory); i >= 0 {
			f := found("key.published", "file", m.file.Path, "The private key is inside the web root %s.",
				strings.TrimSuffix(slashed[:i+len(directory)], "/"))
			f.Evidence.Line, f.Evidence.Access = key.Line, m.file.Access
			return []Finding{f}
		}
	}
	return nil
}

// keyExposed judges who can read a file that holds private keys.
func keyExposed(m *material) []Finding {
	key, encrypted := m.firstPrivate()
	a := m.file.Access
	if key == nil || a == nil {
		return nil
	}
	severity, message := None, ""
	switch {
	case a.Mode&0o004 != 0 && a.Barred == "":
		severity, message = Fault, "Everyone on the machine can read the private key"
	case a.Mode&0o004 != 0:
		severity, message = Note,
			"The private key is readable by everyone, and only the directory "+a.Barred+" blocks access"
	case a.Mode&0o040 != 0 && a.BarredGroup != "":
		severity, message = Note,
			"The private key is readable by the group "+a.Group+
				", and only the directory "+a.BarredGroup+" blocks access"
	case a.Mode&0o040 != 0 && a.Root:
		severity, message = Note, "The group "+a.Group+" can read the private key"
	case a.Mode&0o040 != 0:
		severity, message = Risk, "The group "+a.Group+" can read the private key"
	}
	if severity != None && encrypted {
		severity, message = lower[severity], message+"; it is encrypted"
	}
	if severity == None {
		return nil
	}
	f := found("key.exposed", "file", m.file.Path, "%s (mode %04o, owner %s, group %s).", message, a.Mode, a.Owner,
		a.Group)
	f.Severity, f.Evidence.Access, f.Evidence.Line = severity, a, key.Line
	return []Finding{f}
}
