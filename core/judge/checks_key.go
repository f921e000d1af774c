package judge

import (
	"strings"

	"nurvik/core/facts"
	"nurvik/core/keycheck"
	"nurvik/core/pki"
)

// keyFindings judges one public key. owner says whose it is: the certificate, request or key file.
func keyFindings(key pki.PublicKey, owner func() string, context *Context) []Finding {
	var out []Finding
	add := func(code, message string, args ...any) *Finding {
		whose := owner()
		f := found(code, key.Fingerprint().String(), whose, message, append([]any{whose}, args...)...)
		f.Evidence.Key = key.String()
		out = append(out, f)
		return &out[len(out)-1]
	}
	if severity := shortness(key, context); severity != None {
		add("key.too-short", "The key of %s is %s, which is too short.", key).Severity = severity
	}
	if weaknesses := context.weaknesses(key); len(weaknesses) > 0 {
		var texts []string
		for _, w := range weaknesses {
			texts = append(texts, w.Text)
		}
		add("key.weak", "The key of %s is weak: %s.", strings.Join(texts, "; "))
	}
	if reason := keycheck.Unusual(key); reason != "" {
		add("key.unusual", "The key of %s is unusual: %s.", reason)
	} else if !context.Policy.Keys.Allows(string(key.Algorithm), key.Curve) {
		f := add("key.unusual", "The key of %s is %s, which is not among the keys that the policy allows: %s.", key, strings.Join(context.Policy.Keys.Allowed, ", "))
		f.Remedy = "Make a new key of a kind that the policy allows, and have a certificate issued for it."
	}
	if len(context.Shared) > 0 {
		if factor := context.Shared[key.Match()]; factor != nil {
			f := add("key.shared-prime", "The modulus of %s shares a prime factor of %d bits with that of another key.", factor.BitLen())
			for match, other := range context.Shared {
				if match != key.Match() && other.Cmp(factor) == 0 {
					f.Evidence.Observations = append(f.Evidence.Observations, "the other key: "+match.String())
				}
			}
		}
	}
	return out
}

// weaknesses remembers results: the key of a certificate lies in a file of its
// own, in a request and in keystores too.
func (c *Context) weaknesses(key pki.PublicKey) []keycheck.Finding {
	if key.N == nil {
		return nil
	}
	id := key.Match()
	if known, ok := c.weak.Load(id); ok {
		found, _ := known.([]keycheck.Finding)
		return found
	}
	found := keycheck.Weaknesses(key)
	c.weak.Store(id, found)
	return found
}

func shortness(key pki.PublicKey, context *Context) Severity {
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

// lower is one step below a severity.
var lower = map[Severity]Severity{Fault: Risk, Risk: Note, Note: None}

// checkExposure judges who can read a file that holds private keys.
func checkExposure(file facts.File) []Finding {
	var key *facts.Item
	encrypted := true
	for i, item := range file.Items {
		if item.Kind == facts.PrivateKey {
			if key == nil {
				key = &file.Items[i]
			}
			encrypted = encrypted && item.Key.Encrypted
		}
	}
	if key == nil {
		return nil
	}
	var out []Finding
	if directory := published(file.Path); directory != "" {
		f := found("key.published", "file", file.Path, "The private key lies below %s, which web servers publish.", directory)
		f.Evidence.Line, f.Evidence.Access = key.Line, file.Access
		out = append(out, f)
	}
	a := file.Access
	if a == nil {
		return out
	}
	severity, message := None, ""
	switch {
	case a.Mode&0o004 != 0 && a.Barred == "":
		severity, message = Fault, "Everyone on the machine can read the private key"
	case a.Mode&0o004 != 0:
		severity, message = Note, "The private key is readable by everyone, and only the directory "+a.Barred+" bars the way"
	case a.Mode&0o040 != 0 && a.BarredGroup != "":
		severity, message = Note, "The private key is readable by the group "+a.Group+", and only the directory "+a.BarredGroup+" bars the way"
	case a.Mode&0o040 != 0 && a.Root:
		severity, message = Note, "The group "+a.Group+" can read the private key"
	case a.Mode&0o040 != 0:
		severity, message = Risk, "The group "+a.Group+" can read the private key"
	}
	if severity != None && encrypted {
		severity, message = lower[severity], message+"; it is encrypted"
	}
	if severity == None {
		return out
	}
	f := found("key.exposed", "file", file.Path, "%s (mode %04o, owner %s, group %s).", message, a.Mode, a.Owner, a.Group)
	f.Severity, f.Evidence.Access, f.Evidence.Line = severity, a, key.Line
	return append(out, f)
}

// publishedDirectories are those that web servers publish by convention.
var publishedDirectories = []string{"/var/www/", "/srv/www/", "/srv/http/", "/usr/share/nginx/html/", "/public_html/", "/htdocs/", "/wwwroot/", "/webroot/"}

func published(path string) string {
	slashed := "/" + strings.TrimPrefix(path, "/")
	for _, directory := range publishedDirectories {
		if i := strings.Index(slashed, directory); i >= 0 {
			return strings.TrimSuffix(slashed[:i+len(directory)], "/")
		}
	}
	return ""
}
