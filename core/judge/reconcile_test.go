package judge_test

import (
	"crypto"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/core/facts"
	"nurvik/core/forge"
	"nurvik/core/judge"
	"nurvik/core/pki"
	"nurvik/core/policy"
)

// told is a configuration of one place with the certificate and key at the paths.
func told(certificate, key string) facts.Configuration {
	at := func(directive, value string, line int) facts.Setting {
		return facts.Setting{Directive: directive, Value: value, Line: facts.Line{File: "/etc/nginx/nginx.conf",
			Line: line}}
	}
	return facts.Configuration{Schema: facts.Schema, Server: "nginx", Path: "/etc/nginx/nginx.conf",
		Library: facts.Library{Name: "OpenSSL", Version: "3.5", Level: 2}, Files: []string{"/etc/nginx/nginx.conf"},
		Sites: []facts.Site{{Line: facts.Line{File: "/etc/nginx/nginx.conf", Line: 1}, Last: 9,
			Listens: []facts.Listen{
				{Setting: at("listen", "443 ssl", 2), Port: 443, Scheme: "https", DefaultSite: true},
			},
			Names: []facts.Setting{at("server_name", host, 3)},
			Identities: []facts.Identity{{Certificate: at("ssl_certificate", certificate, 4),
				Key: at("ssl_certificate_key", key, 5)}},
			Versions: []string{"TLS 1.2", "TLS 1.3"}, VersionsBy: []facts.Setting{at("ssl_protocols",
				"TLSv1.2 TLSv1.3", 6)},
			Suites: at("ssl_ciphers", "ECDHE+AESGCM", 7), Groups: at("ssl_ecdh_curve", "X25519MLKEM768:X25519", 8),
			Order: facts.ServerOrder}}}
}

// onDisk is a file of certificates, and of the public halves of private keys.
func onDisk(path string, ders [][]byte, keys ...[]byte) facts.File {
	f := file(ders...)
	f.Path = path
	for i, spki := range keys {
		f.Items = append(f.Items, facts.Item{Kind: facts.PrivateKey, Key: &facts.Key{SPKI: spki, Structure: "PKCS#8"},
			Place: facts.Place{Line: 100 + i}})
	}
	return f
}

// reconciled is the judgement of an endpoint whose place was configured, and that of the configuration.
func reconciled(s *scene, c facts.Configuration, files []facts.File, leaf []byte) (endpoint, server judge.Judgement,
	shown judge.Deployment) {
	return reconciledWith(s, c, files, observed(served("1.2,1.3", leaf, s.lower.DER, s.upper.DER)))
}

func reconciledWith(s *scene, c facts.Configuration, files []facts.File, e facts.Endpoint) (
	endpoint, server judge.Judgement, shown judge.Deployment) {
	context := s.context()
	observed := []facts.Endpoint{e}
	endpoints := []judge.Judgement{judge.Endpoint(observed[0], context)}
	ofFiles, together := judge.Files(files, context)
	servers := judge.Configurations([]facts.Configuration{c}, files, ofFiles, together, context)
	machine := judge.Machine{Configurations: []facts.Configuration{c}, Judged: servers, Files: files,
		Together: together, Places: []judge.Placed{{}}}
	all := judge.Reconcile([]judge.Machine{machine}, observed, endpoints,
		func(int) *policy.Policy { return &context.Policy }, context)
	judge.ReplacedElsewhere(observed, endpoints, context)
	return endpoints[0], servers[0], all[0]
}

// deployCases are the ways in which disk, configuration and wire differ.
func deployCases(s *scene) map[string]judge.Judgement {
	key, otherKey := s.key(), s.key()
	spki := func(k crypto.Signer) []byte {
		info, err := forge.PublicInfo(k)
		require.NoError(s.t, err)
		return info
	}
	issued := func(days int, k crypto.Signer) []byte {
		return s.leaf(s.lower, func(w *forge.Template) {
			w.From, w.Until, w.SPKI = now.AddDate(0, 0, -days), now.AddDate(0, 0, 100-days), spki(k)
		})
	}
	older, newer := issued(60, key), issued(5, key)
	chain := func(leaf []byte) [][]byte { return [][]byte{leaf, s.lower.DER, s.upper.DER} }
	c := told("/etc/ssl/site.pem", "/etc/ssl/site.key")
	good := onDisk("/etc/ssl/site.key", nil, spki(key))
	out := map[string]judge.Judgement{}
	out["deploy.not-reloaded risk"], _, _ = reconciled(s, c, []facts.File{onDisk("/etc/ssl/site.pem", chain(newer)),
		good}, older)
	out["deploy.other-source note"], _, _ = reconciled(s, c, []facts.File{onDisk("/etc/ssl/site.pem", chain(older)),
		good}, newer)
	var server judge.Judgement
	out["deploy.key-differs fault"], server, _ = reconciled(s, c, []facts.File{onDisk("/etc/ssl/site.pem",
		chain(newer)),
		onDisk("/etc/ssl/site.key", nil, spki(otherKey))}, newer)
	for _, f := range server.Findings {
		assert.NotEqual(s.t, "config.key-mismatch", f.Code, "what is served says more")
	}
	newerElsewhere := onDisk("/etc/ssl/next.pem", chain(newer))
	e := observed(served("1.2,1.3", older, s.lower.DER, s.upper.DER))
	since := now.AddDate(0, 0, -1)
	e.RevocationAsked, e.Revocation = true, []facts.Revocation{{Certificate: pki.FingerprintOf(older),
		Source: facts.FromList,
		At:     now, Status: facts.RevocationRevoked, RevokedAt: &since}}
	out["deploy.revoked-still-served fault"], _, _ = reconciledWith(s, c, []facts.File{onDisk("/etc/ssl/site.pem",
		chain(older)),
		newerElsewhere, good}, e)

	both := []facts.Endpoint{observed(served("1.2,1.3", older, s.lower.DER, s.upper.DER)),
		observed(served("1.2,1.3", newer, s.lower.DER, s.upper.DER))}
	both[1].Endpoint = "other." + host + ":443"
	context := s.context()
	judgements := []judge.Judgement{judge.Endpoint(both[0], context), judge.Endpoint(both[1], context)}
	judge.ReplacedElsewhere(both, judgements, context)
	out["deploy.replaced-elsewhere risk"] = judgements[0]
	return out
}

func TestReconcile(t *testing.T) {
	s := newScene(t)
	for pair, j := range deployCases(s) {
		t.Run(pair, func(t *testing.T) {
			var got []string
			for _, f := range j.Findings {
				got = append(got, f.Code+" "+string(f.Severity))
			}
			assert.Contains(t, got, pair)
		})
	}
	leaf := s.leaf(s.lower, nil)
	c := told("/etc/ssl/site.pem", "")
	c.Sites[0].Identities[0].Key = facts.Setting{}
	_, server, shown := reconciled(s, c, []facts.File{onDisk("/etc/ssl/site.pem", [][]byte{leaf, s.lower.DER,
		s.upper.DER})}, leaf)
	assert.True(t, shown.Agree)
	assert.Equal(t, "/etc/nginx/nginx.conf:4", shown.Configured.Place)
	assert.Equal(t, "192.0.2.7:443", shown.Served[0].Place)
	var got []string
	for _, f := range server.Findings {
		got = append(got, f.Code)
	}
	assert.Equal(t, []string{"config.key-mismatch"}, got, "no key is named, and the certificate's file holds none")
}
