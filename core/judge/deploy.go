package judge

import (
	"slices"
	"strings"

	"nurvik/core/facts"
	"nurvik/core/pki"
)

// deployDefaultName notes that clients which send another name, or none, get another certificate.
func deployDefaultName(a *address) []Finding {
	if a.bundle == nil {
		return nil
	}
	leaf := a.bundle.leaf
	for _, x := range a.seen.Others {
		if x.To == "other-key" || len(x.Certificates) == 0 {
			continue
		}
		c, err := pki.ParseCertificate(x.Certificates[0])
		if err != nil || c.Fingerprint() == leaf.Fingerprint() || slices.Equal(c.HostNames(), leaf.HostNames()) {
			continue
		}
		f := found("deploy.default-name-differs", "default", c.Label(),
			"Clients that send no SNI, or an unknown name in it, get the certificate of %s.", c.Label())
		f.Evidence = certificateEvidence(c)
		return []Finding{f}
	}
	return nil
}

// deployAddressesDiffer compares what the addresses of one endpoint show: the leaf, and the versions.
func deployAddressesDiffer(v *visited) []Finding {
	type shown struct{ address, leaf, versions string }
	var all []shown
	for _, a := range v.addresses {
		if len(a.seen.Certificates) == 0 {
			continue
		}
		leaves := []string{pki.FingerprintOf(a.seen.Certificates[0]).String()}
		for _, x := range a.seen.Others {
			if x.To == "other-key" && len(x.Certificates) > 0 {
				leaves = append(leaves, pki.FingerprintOf(x.Certificates[0]).String())
			}
		}
		slices.Sort(leaves)
		var versions []string
		for _, version := range a.seen.Versions {
			if a.seen.Cut.Given() { // what was not asked is no difference
				break
			}
			if version.Answer == facts.Accepted {
				versions = append(versions, version.Name)
			}
		}
		all = append(all, shown{a.seen.Address.String(), strings.Join(leaves, " "), strings.Join(versions, ", ")})
	}
	var out []Finding
	for _, x := range []struct {
		subject, words string
		of             func(shown) string
	}{
		{"certificates", "The addresses serve different certificates", func(s shown) string { return s.leaf }},
		{"versions", "The addresses accept different protocol versions", func(s shown) string { return s.versions }},
	} {
		i := slices.IndexFunc(all, func(s shown) bool {
			return x.of(s) != x.of(all[0]) && x.of(s) != "" &&
				x.of(all[0]) != ""
		})
		if i < 0 {
			continue
		}
		f := found("deploy.addresses-differ", x.subject, x.subject, "%s: %s and %s.", x.words, all[0].address,
			all[i].address)
		f.Evidence.Observations = []string{all[0].address + ": " + x.of(all[0]), all[i].address + ": " + x.of(all[i])}
		out = append(out, f)
	}
	return out
}
