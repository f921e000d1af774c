package judge_test

import (
	"encoding/asn1"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/core/forge"
	"nurvik/core/judge"
)

// TestPurposeOfFiles: what a file is for counts along the whole path (RFC 5280, 4.2.1.12).
func TestPurposeOfFiles(t *testing.T) {
	s := newScene(t)
	var server, client, mail = asn1.ObjectIdentifier{1, 3, 6, 1, 5, 5, 7, 3, 1}, asn1.ObjectIdentifier{1, 3, 6, 1, 5, 5,
		7, 3, 2},
		asn1.ObjectIdentifier{1, 3, 6, 1, 5, 5, 7, 3, 4}
	usages := func(list ...asn1.ObjectIdentifier) forge.Extension {
		value, err := asn1.Marshal(list)
		require.NoError(t, err)
		return forge.Extension{ID: asn1.ObjectIdentifier{2, 5, 29, 37}, Value: value}
	}
	// An extension that nobody knows stands in the place of the usages, to have none.
	none := forge.Extension{ID: asn1.ObjectIdentifier{1, 3, 6, 1, 4, 1, 99999, 1}, Value: []byte{5, 0}}
	forMail := s.authority(s.root, forge.Template{Name: "Mail Issuing", Extra: []forge.Extension{usages(mail)}})
	leaf := func(issuer *forge.Authority, usage forge.Extension, hosts ...string) []byte {
		return s.leaf(issuer, func(w *forge.Template) {
			w.Names = hosts
			w.Swap = []forge.Extension{usage}
			if usage.ID.Equal(none.ID) {
				w.NoUsages, w.Swap = true, nil
			}
		})
	}
	for name, tt := range map[string]struct {
		leaf    []byte
		issuer  *forge.Authority
		names   []string
		purpose judge.Purpose
		fault   bool
	}{
		"a server's under a CA for mail": {leaf(forMail, usages(server), host), forMail, nil, "", true},
		"host names and no usages":       {leaf(forMail, none, host), forMail, nil, "", true},
		"no host names and no usages":    {leaf(forMail, none), forMail, nil, "", false},
		"for mail, under a CA for mail":  {leaf(forMail, usages(mail)), forMail, nil, "", false},
		"a client's":                     {leaf(s.lower, usages(client), host), s.lower, nil, "", false},
		"a client's that must cover a name": {leaf(s.lower, usages(client), host), s.lower, []string{host}, "",
			true},
		"a server's": {leaf(s.lower, usages(server), host), s.lower, nil, "", false},
		"a server's, asked as a client's": {leaf(s.lower, usages(server), host), s.lower, nil, judge.ForClients,
			true},
		"a server's under a CA for mail, for any": {leaf(forMail, usages(server), host), forMail, nil, judge.ForAny,
			false},
		"for mail, asked as a server's": {leaf(forMail, usages(mail)), forMail, nil, judge.ForServers, true},
		"for mail, asked as that":       {leaf(forMail, usages(mail)), forMail, nil, judge.ForMail, false},
	} {
		t.Run(name, func(t *testing.T) {
			c := s.context()
			c.Purpose = tt.purpose
			if tt.names != nil {
				c.Names = names(t, tt.names...)
			}
			j := judge.File(file(tt.leaf, tt.issuer.DER, s.upper.DER), c)
			found := false
			for _, f := range j.Findings {
				found = found || f.Code == "trust.usage"
			}
			assert.Equal(t, tt.fault, found, codes(j))
		})
	}
	_, err := judge.ParsePurpose("house")
	require.Error(t, err)
}
