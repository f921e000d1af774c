package judge

import (
	"fmt"
	"slices"
	"strings"

	"nurvik/core/facts"
	"nurvik/core/naming"
	"nurvik/core/pki"
)

// checkSettings judges what single hellos showed.
func checkSettings(b *bundle, o facts.Observation) {
	s := o.Settings
	if s == nil {
		return
	}
	note := func(yes bool, code, subject, message string) {
		if yes {
			b.add(found(code, subject, subject, "%s", message))
		}
	}
	note(s.NotOffered != "", "proto.answer-not-offered", "hello", fmt.Sprintf("The endpoint chose %s, which was not offered.", s.NotOffered))
	note(s.Compression == facts.Yes, "proto.compression", "compression", "Compression is accepted, which lets attackers guess what is encrypted.")
	note(s.RenegotiationInfo == facts.No, "proto.no-renegotiation-info", "renegotiation", "The endpoint does not say that it secures renegotiation.")
	note(s.ExtendedMasterSecret == facts.No, "proto.no-extended-master-secret", "extended master secret", "The master secret is not bound to the whole handshake.")
	note(s.Heartbeat == facts.Yes, "proto.heartbeat", "heartbeat", "The heartbeat extension is answered.")
	note(s.ToleratesUnknown == facts.No, "proto.intolerant", "unknown values", "The endpoint answers only when nothing is offered that it does not know; newer clients offer such things.")
	note(s.ToleratesLarge == facts.No, "proto.intolerant", "large hellos", "The endpoint does not answer hellos of more than 4 KiB, which clients with post-quantum keys send.")
	if o.Possession == facts.PossessionFailed && b.leaf != nil {
		f := found("pair.possession-failed", b.leaf.Fingerprint().String(), b.leaf.Label(), "What the endpoint signed in the handshake does not verify under the certificate of %s: it does not have its key.", b.leaf.Label())
		f.Evidence = certificateEvidence(b.leaf)
		b.add(f)
	}
}

// checkDefault notes that clients which send another name, or none, get another certificate.
func checkDefault(b *bundle, o facts.Observation) {
	for _, x := range o.Others {
		if x.To == "other-key" || len(x.Certificates) == 0 {
			continue
		}
		c, err := pki.ParseCertificate(x.Certificates[0])
		if err != nil || c.Fingerprint() == b.leaf.Fingerprint() || slices.Equal(c.HostNames(), b.leaf.HostNames()) {
			continue
		}
		f := found("deploy.default-name-differs", "default", c.Label(), "Clients that send no server name, or a foreign one, get the certificate of %s.", c.Label())
		f.Evidence = certificateEvidence(c)
		b.add(f)
		return
	}
}

// checkWeb judges what the web server said, for host names.
func checkWeb(b *bundle, o facts.Observation, host string) {
	if o.HTTP == nil {
		return
	}
	if name, err := naming.Parse(host); err != nil || name.IsAddress() {
		return
	}
	if o.HTTP.Status != 0 && o.HTTP.StrictTransportSecurity == "" {
		b.add(found("http.no-strict-transport", host, host, "The web server does not tell browsers to use HTTPS only."))
	}
	if p := o.HTTP.Plain; p != nil && p.Status != 0 && !(p.Status >= 300 && p.Status < 400 && strings.HasPrefix(strings.ToLower(p.Location), "https://")) {
		b.add(found("http.no-redirect", host, host, "Plain HTTP on %s answers with status %d and does not lead to HTTPS.", p.Address, p.Status))
	}
}

// addressesDiffer compares what the addresses of one endpoint show: the leaf, and the versions.
func addressesDiffer(e facts.Endpoint) []Finding {
	type shown struct{ address, leaf, versions string }
	var all []shown
	for _, o := range e.Observations {
		if o.Outcome != facts.Answered || len(o.Certificates) == 0 {
			continue
		}
		leaves := []string{pki.FingerprintOf(o.Certificates[0]).String()}
		for _, x := range o.Others {
			if x.To == "other-key" && len(x.Certificates) > 0 {
				leaves = append(leaves, pki.FingerprintOf(x.Certificates[0]).String())
			}
		}
		slices.Sort(leaves)
		var versions []string
		for _, v := range o.Versions {
			if v.Answer == facts.Accepted {
				versions = append(versions, v.Name)
			}
		}
		all = append(all, shown{o.Address.String(), strings.Join(leaves, " "), strings.Join(versions, ", ")})
	}
	var out []Finding
	for _, x := range []struct {
		subject, words string
		of             func(shown) string
	}{
		{"certificates", "The addresses serve different certificates", func(s shown) string { return s.leaf }},
		{"versions", "The addresses accept different protocol versions", func(s shown) string { return s.versions }},
	} {
		for _, s := range all {
			if x.of(s) == x.of(all[0]) {
				continue
			}
			f := found("deploy.addresses-differ", x.subject, x.subject, "%s: %s and %s.", x.words, all[0].address, s.address)
			f.Evidence.Observations = []string{all[0].address + ": " + x.of(all[0]), s.address + ": " + x.of(s)}
			out = append(out, f)
			break
		}
	}
	return out
}
