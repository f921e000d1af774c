package judge_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"nurvik/core/judge"
	"nurvik/core/pki"
)

// TestCauseOf: the same repair at many places is one cause, and another repair is another.
func TestCauseOf(t *testing.T) {
	const tides = "tides.tarnholm.example"
	one, other := pki.Fingerprint{1}, pki.Fingerprint{2}
	certificate := func(code, subject string, f *pki.Fingerprint) judge.Finding {
		return judge.Finding{Code: code, Subject: subject, About: tides, Evidence: judge.Evidence{Certificate: f}}
	}
	lacks := func(subject string, missing ...string) judge.Finding {
		return judge.Finding{Code: "chain.incomplete", Subject: subject, Evidence: judge.Evidence{MissingPEM: missing,
			Issuer: "CN=Skerry Outer Issuing"}}
	}
	ends := func(subject, issuer string) judge.Finding {
		f := certificate("trust.unknown-anchor", subject, &pki.Fingerprint{subject[0]})
		f.Evidence.Issuer = issuer
		return f
	}
	set := func(code, subject string) judge.Finding {
		return judge.Finding{Code: code, Subject: subject, About: subject}
	}
	for name, tt := range map[string]struct {
		a, b  judge.Finding
		same  bool
		about string // of a
	}{
		"one certificate": {certificate("time.expired", "x", &one), certificate("time.expired", "y", &one), true,
			tides},
		"two certificates": {certificate("time.expired", "x", &one), certificate("time.expired", "x", &other),
			false,
			tides},
		"two codes": {certificate("time.expired", "x", &one), certificate("key.weak", "x", &one), false,
			tides},
		"one missing issuer":  {lacks("x", "A"), lacks("y", "A"), true, ""},
		"two missing issuers": {lacks("x", "A"), lacks("y", "A", "B"), false, ""},
		"one unknown issuer":  {ends("x", "CN=Deep"), ends("y", "CN=Deep"), true, "CN=Deep"},
		"two unknown issuers": {ends("x", "CN=Deep"), ends("y", "CN=Shoal"), false, "CN=Deep"},
		"one version":         {set("proto.obsolete", "TLS 1.0"), set("proto.obsolete", "TLS 1.0"), true, "TLS 1.0"},
		"two versions":        {set("proto.obsolete", "TLS 1.0"), set("proto.obsolete", "TLS 1.1"), false, "TLS 1.0"},
		"suites":              {set("suite.null", "suites"), set("suite.null", "suites"), true, ""},
		"hosts of their own":  {set("http.no-redirect", "a.example"), set("http.no-redirect", "b.example"), true, ""},
		"addresses": {set("reach.address-refused", "[::1]:443"), set("reach.address-refused", "[::2]:443"),
			true,
			""},
		"nothing but the code": {set("http.no-redirect", "a.example"), set("http.no-strict-transport", "a.example"),
			false,
			""},
	} {
		t.Run(name, func(t *testing.T) {
			a, b := judge.CauseOf(tt.a), judge.CauseOf(tt.b)
			assert.Equal(t, tt.same, a.ID == b.ID)
			assert.Equal(t, tt.about, a.About)
			assert.Len(t, a.ID, 16)
		})
	}
}
