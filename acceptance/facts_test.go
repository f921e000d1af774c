package acceptance

import (
	"encoding/json"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/core/facts"
	"nurvik/core/words"
)

// visited are the facts of endpoints of the harbour, by host, after visits of the effort.
func visited(t *testing.T, effort string, hosts ...string) map[string]facts.Endpoint {
	t.Helper()
	directory := t.TempDir()
	data, err := os.ReadFile(estate.EstateFile)
	require.NoError(t, err)
	head, list, found := strings.Cut(string(data), "endpoints:\n")
	require.True(t, found)
	var kept []string
	for _, entry := range strings.Split(list, "  - endpoint: ")[1:] {
		host := strings.TrimSuffix(strings.TrimSuffix(strings.SplitN(entry, "\n", 2)[0], ":443"), ".tarnholm.example")
		if slices.Contains(hosts, host) {
			kept = append(kept, "  - endpoint: "+entry)
		}
	}
	require.Len(t, kept, len(hosts), "each host is in the estate")
	head = strings.ReplaceAll(head, "path: anchors", "path: "+filepath.Join(filepath.Dir(estate.EstateFile), "anchors"))
	path := filepath.Join(directory, "estate.yaml")
	require.NoError(t, os.WriteFile(path, []byte(head+"endpoints:\n"+strings.Join(kept, "")), 0o600))
	o := nurvik(t, "audit", path, "--effort", effort, "--no-revocation", "-o", "json", "--fail-from", "never")
	require.Equal(t, 0, o.status, o.stderr)
	var report struct {
		Targets []struct {
			Target string         `json:"target"`
			Facts  facts.Endpoint `json:"facts"`
		} `json:"targets"`
	}
	require.NoError(t, json.Unmarshal([]byte(o.stdout), &report))
	out := map[string]facts.Endpoint{}
	for _, target := range report.Targets {
		host, _, _ := strings.Cut(target.Target, ".tarnholm.example")
		out[host] = target.Facts
	}
	require.Len(t, out, len(hosts))
	return out
}

func version(o facts.Observation, name string) facts.Version {
	if i := slices.IndexFunc(o.Versions, func(v facts.Version) bool { return v.Name == name }); i >= 0 {
		return o.Versions[i]
	}
	return facts.Version{}
}

func served(o facts.Observation, to string) string {
	i := slices.IndexFunc(o.Others, func(s facts.Served) bool { return s.To == to })
	switch {
	case i < 0:
		return "the same"
	case o.Others[i].Refused.Given():
		return words.Of(o.Others[i].Refused)
	}
	return "another"
}

// TestEachValueOfAFact: of every fact that a visit learns the harbour has an endpoint for each of its values.
func TestEachValueOfAFact(t *testing.T) {
	type getter func(facts.Observation) string
	setting := func(of func(*facts.Settings) facts.Answer) getter {
		return func(o facts.Observation) string { return string(of(o.Settings)) }
	}
	accepts := func(name string) getter {
		return func(o facts.Observation) string { return string(version(o, name).Answer) }
	}
	order := func(name string) getter {
		return func(o facts.Observation) string { return string(version(o, name).Order) }
	}
	finite := func(o facts.Observation) string {
		if o.Groups == nil || o.Groups.FiniteField == nil {
			return "none"
		}
		return strings.TrimSpace(o.Groups.FiniteField.Name + " " + string(rune('0'+o.Groups.FiniteField.Bits/1024)))
	}
	hybrid := func(o facts.Observation) string {
		if slices.Contains(o.Groups.Accepted, "X25519MLKEM768") {
			return "yes"
		}
		return "no"
	}
	web := func(of func(*facts.HTTP) string) getter {
		return func(o facts.Observation) string { return of(o.HTTP) }
	}
	present := func(of func(facts.Observation) bool) getter {
		return func(o facts.Observation) string {
			if of(o) {
				return "yes"
			}
			return "no"
		}
	}
	table := []struct {
		fact   string
		of     getter
		values map[string]string // host by value
	}{
		{"SSL 2.0", accepts("SSL 2.0"), map[string]string{"accepted": "brig", "declined": "chandler"}},
		{"SSL 3.0", accepts("SSL 3.0"), map[string]string{"accepted": "brig", "declined": "chandler"}},
		{"TLS 1.0", accepts("TLS 1.0"), map[string]string{"accepted": "winch", "declined": "tides"}},
		{"TLS 1.1", accepts("TLS 1.1"), map[string]string{"accepted": "winch", "declined": "brig"}},
		{"TLS 1.2", accepts("TLS 1.2"), map[string]string{"accepted": "tides", "declined": "signal"}},
		{"TLS 1.3", accepts("TLS 1.3"), map[string]string{"accepted": "tides", "declined": "ropewalk"}},
		{"order of suites", order("TLS 1.2"), map[string]string{"partial": "tides", "server": "barge",
			"client": "schooner"}},
		{"groups' order", func(o facts.Observation) string { return string(o.Groups.Order) },
			map[string]string{"server": "tides", "client": "schooner"}},
		{"hybrid key exchange", hybrid, map[string]string{"yes": "tides", "no": "ketch"}},
		{"finite field", finite, map[string]string{"none": "tides", "0": "barge", "RFC 2409, 1024 bits 1": "bilander",
			"ffdhe2048 2": "felucca"}},
		{"signature scheme", func(o facts.Observation) string { return o.Settings.SignatureScheme },
			map[string]string{"ecdsa_secp256r1_sha256": "tides", "rsa_pss_rsae_sha256": "pilots",
				"rsa_pkcs1_sha256": "schooner"}},
		{"signature schemes", func(o facts.Observation) string {
			return strings.Join(o.Settings.SignatureSchemes,
				" ")
		}, map[string]string{
			"ecdsa_secp256r1_sha256 ecdsa_secp384r1_sha384 ecdsa_secp521r1_sha512": "tides",
			"rsa_pkcs1_sha256": "felucca", "": "brig"}},
		{"application protocol", func(o facts.Observation) string { return o.Settings.ALPN },
			map[string]string{"h2": "catamaran", "": "felucca", `h2\x00\x1b]0;owned\x07\u202e`: "siren"}},
		{"possession", func(o facts.Observation) string { return string(o.Possession) },
			map[string]string{"shown": "tides", "failed": "decoy", "not-shown": "brig"}},
		{"another kind of key", func(o facts.Observation) string { return served(o, "other-key") },
			map[string]string{"another": "catamaran", "the same": "tides"}},
		{"without a name", func(o facts.Observation) string { return served(o, "no-name") },
			map[string]string{"another": "arcade", "the same": "tides", "alert internal_error": "strongroom"}},
		{"with a foreign name", func(o facts.Observation) string { return served(o, "foreign-name") },
			map[string]string{"another": "arcade", "the same": "tides", "alert internal_error": "strongroom"}},
		{"stapled answer", present(func(o facts.Observation) bool { return len(o.Staple) > 0 }),
			map[string]string{"yes": "flagstaff", "no": "tides"}},
		{"timestamps", present(func(o facts.Observation) bool { return len(o.Timestamps) == 1 }),
			map[string]string{"yes": "catamaran", "no": "tides"}},
		{"client certificate", func(o facts.Observation) string {
			if o.ClientCertificate == nil {
				return "not asked for"
			}
			return strings.Join(o.ClientCertificate.Issuers, ", ")
		}, map[string]string{"not asked for": "tides",
			"O=Tarnholm Harbour Authority, CN=Tarnholm Inner Issuing": "shipping"}},
		{"renegotiation information", setting(func(s *facts.Settings) facts.Answer { return s.RenegotiationInfo }),
			map[string]string{"yes": "tides", "no": "brig"}},
		{"extended master secret", setting(func(s *facts.Settings) facts.Answer { return s.ExtendedMasterSecret }),
			map[string]string{"yes": "tides", "no": "brig"}},
		{"encrypt-then-MAC", setting(func(s *facts.Settings) facts.Answer { return s.EncryptThenMAC }),
			map[string]string{"yes": "schooner", "no": "tides", "not-shown": "felucca"}},
		{"compression", setting(func(s *facts.Settings) facts.Answer { return s.Compression }),
			map[string]string{"yes": "brig", "no": "tides"}},
		{"fallback signal", setting(func(s *facts.Settings) facts.Answer { return s.FallbackSignal }),
			map[string]string{"yes": "tides", "no": "clipper", "not-shown": "signal"}},
		{"session tickets", setting(func(s *facts.Settings) facts.Answer { return s.SessionTickets }),
			map[string]string{"yes": "tides", "no": "hatch"}},
		{"resumption", setting(func(s *facts.Settings) facts.Answer { return s.Resumption }),
			map[string]string{"yes": "signal", "no": "hatch", "not-shown": "brig"}},
		{"heartbeat", setting(func(s *facts.Settings) facts.Answer { return s.Heartbeat }),
			map[string]string{"yes": "barge", "no": "tides"}},
		{"downgrade marker", setting(func(s *facts.Settings) facts.Answer { return s.DowngradeMarker }),
			map[string]string{"yes": "tides", "no": "clipper", "not-shown": "ropewalk"}},
		{"tolerance of unknown values", setting(func(s *facts.Settings) facts.Answer { return s.ToleratesUnknown }),
			map[string]string{"yes": "tides", "no": "cutter"}},
		{"tolerance of large hellos", setting(func(s *facts.Settings) facts.Answer { return s.ToleratesLarge }),
			map[string]string{"yes": "tides", "no": "clipper"}},
		{"application protocol", func(o facts.Observation) string { return o.Settings.ALPN },
			map[string]string{"": "tides", "h2": "catamaran"}},
		{"not offered", func(o facts.Observation) string { return o.Settings.NotOffered },
			map[string]string{"": "tides", "TLS_AES_128_CCM_SHA256": "dory"}},
		{"strict transport", web(func(h *facts.HTTP) string { return h.StrictTransportSecurity }),
			map[string]string{"max-age=31536000": "tides", "": "landing"}},
		{"plain HTTP", web(func(h *facts.HTTP) string {
			if h.Plain == nil {
				return "not asked"
			}
			return h.Plain.Location
		}), map[string]string{"not asked": "tides", "": "landing", "https://promenade.tarnholm.example/": "promenade"}},
	}
	var hosts []string
	for _, row := range table {
		for _, host := range row.values {
			hosts = append(hosts, host)
		}
	}
	slices.Sort(hosts)
	endpoints := visited(t, "full", slices.Compact(hosts)...)
	for _, row := range table {
		t.Run(row.fact, func(t *testing.T) {
			require.Greater(t, len(row.values), 1)
			for value, host := range row.values {
				require.Len(t, endpoints[host].Observations, 1, host)
				assert.Equal(t, value, row.of(endpoints[host].Observations[0]), host)
			}
		})
	}
	t.Run("records", func(t *testing.T) {
		with := visited(t, "quick", "lodestar", "drogue", "moorage")
		assert.Equal(t, "tarnholm.example", with["lodestar"].DNS.CAAAt)
		assert.Equal(t, "moorage.tarnholm.example", with["moorage"].DNS.CAAAt)
		assert.True(t, with["lodestar"].DNS.Validated)
		assert.False(t, with["drogue"].DNS.Validated)
		assert.Len(t, with["drogue"].DNS.TLSA, 1)
		assert.Empty(t, with["moorage"].DNS.TLSA)
		assert.Equal(t, []string{"127.30.7.24"}, with["lodestar"].DNS.Addresses)
	})
}

// TestEffortTable compares the table in docs/visits.md with what visits learn.
func TestEffortTable(t *testing.T) {
	document, err := os.ReadFile(filepath.Join("..", "docs", "visits.md"))
	require.NoError(t, err)
	_, table, found := strings.Cut(string(document), "| fact | quick | normal | full |\n")
	require.True(t, found)
	said := map[string][]string{}
	for _, line := range strings.Split(table, "\n")[1:] {
		cells := strings.Split(strings.Trim(line, "|"), "|")
		if len(cells) != 4 {
			break
		}
		for i := range cells {
			cells[i] = strings.TrimSpace(cells[i])
		}
		said[cells[0]] = cells[1:]
	}
	known := func(answers ...facts.Answer) bool {
		return !slices.Contains(answers, facts.Unknown) && !slices.Contains(answers, "")
	}
	learnt := map[string]func(facts.Observation) bool{
		"versions TLS 1.3 to SSL 3.0, the suite chosen first": func(o facts.Observation) bool {
			return version(o, "TLS 1.3").Suite != "" && version(o, "SSL 3.0").Answer == facts.Declined
		},
		"chain, stapled answer, timestamps, " +
			"client certificate asked for, proof of the key": func(o facts.Observation) bool {
			return len(o.Certificates) > 1 && len(o.Staple) > 0 && o.Possession == facts.PossessionShown
		},
		"tolerance of unknown values": func(o facts.Observation) bool { return known(o.Settings.ToleratesUnknown) },
		"settings that every ServerHello up to TLS 1.2 shows: renegotiation information, extended master secret, " +
			"compression, heartbeat, tickets, downgrade marker": func(o facts.Observation) bool {
			s := o.Settings
			return known(s.RenegotiationInfo, s.ExtendedMasterSecret, s.Compression, s.Heartbeat, s.SessionTickets,
				s.DowngradeMarker)
		},
		"encrypt-then-MAC, which suites with CBC show": func(o facts.Observation) bool {
			return known(o.Settings.EncryptThenMAC)
		},
		"all suites, order of preference, groups": func(o facts.Observation) bool {
			return len(version(o, "TLS 1.2").Suites) > 1 && version(o, "TLS 1.2").Order != "" && o.Groups != nil
		},
		"signature schemes": func(o facts.Observation) bool { return len(o.Settings.SignatureSchemes) > 1 },
		"fallback signal":   func(o facts.Observation) bool { return known(o.Settings.FallbackSignal) },
		"status and headers of the web server, plain port": func(o facts.Observation) bool {
			return o.HTTP != nil &&
				o.HTTP.Status == 200
		},
		"SSL 2.0":                   func(o facts.Observation) bool { return version(o, "SSL 2.0").Answer != "" },
		"tolerance of large hellos": func(o facts.Observation) bool { return known(o.Settings.ToleratesLarge) },
		"resumption":                func(o facts.Observation) bool { return known(o.Settings.Resumption) },
	}
	shown := map[string][]string{}
	for _, effort := range []string{"quick", "normal", "full"} {
		o := visited(t, effort, "flagstaff")["flagstaff"].Observations[0]
		for fact, of := range learnt {
			word := ""
			if of(o) {
				word = "yes"
			}
			shown[fact] = append(shown[fact], word)
		}
	}
	for fact, words := range shown {
		if fact == "SSL 2.0" {
			words[1] = "where TLS 1.1 or older is accepted"
			old := visited(t, "normal", "chandler")["chandler"].Observations[0]
			assert.Equal(t, facts.Declined, version(old, "SSL 2.0").Answer, "it was asked there")
		}
		assert.Equal(t, words, said[fact], fact)
	}
	others := visited(t, "normal", "arcade")["arcade"].Observations[0]
	assert.NotEmpty(t, others.Others)
	assert.Empty(t, visited(t, "quick", "arcade")["arcade"].Observations[0].Others)
	assert.Equal(t, []string{"", "yes", "yes"}, said["chains of other clients"])
	assert.Len(t, said, len(shown)+2, "every line of the table is compared; the last, about connections, in core/probe")
}
