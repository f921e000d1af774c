package workbench_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/internal/workbench"
)

func TestCompareInputs(t *testing.T) {
	c := newChain(t)
	full := workbench.Input{Name: "full.pem", Data: []byte(c.leafPEM + c.chainPEM)}
	lone := workbench.Input{Name: "lone.pem", Data: []byte(c.leafPEM)}
	r, err := workbench.Compare(full, lone, nil)
	require.NoError(t, err)
	assert.Equal(t, "The same certificate, two chain certificates fewer.", r.Sentence)
	_, err = workbench.Compare(full, workbench.Input{Name: "note.txt", Data: []byte("nothing")}, nil)
	require.ErrorContains(t, err, "note.txt cannot be compared")
}

func TestPackInputs(t *testing.T) {
	c := newChain(t)
	key := workbench.Input{Name: "a.key", Data: []byte(block("EC PRIVATE KEY", c.private))}
	leaf, above := workbench.Input{Name: "leaf", Data: []byte(c.leafPEM)}, workbench.Input{Name: "above",
		Data: []byte(c.chainPEM)}
	middle := workbench.Input{Name: "middle", Data: []byte(block("CERTIFICATE", c.middle.DER))}
	for name, tt := range map[string]struct {
		inputs []workbench.Input
		wish   workbench.Wish
		files  string
		line   string
		note   string // in the first note
		refuse string
	}{
		"for nginx": {[]workbench.Input{leaf, key, above}, workbench.Wish{Server: "nginx"},
			"_.tarnholm.example-bundle.pem _.tarnholm.example.key",
			"ssl_certificate /etc/ssl/_.tarnholm.example-bundle.pem;",
			"Whether clients trust the root", ""},
		"without the root": {[]workbench.Input{leaf, middle}, workbench.Wish{Shape: "bundle"},
			"_.tarnholm.example-bundle.pem",
			"", "\"Root\", is not among what was read", ""},
		"a keystore": {[]workbench.Input{leaf, key, above}, workbench.Wish{Shape: "keystore", Password: "Lodestar 7"},
			"_.tarnholm.example.p12", "", "", ""},
		"no key": {[]workbench.Input{leaf, above}, workbench.Wish{Server: "haproxy"}, "", "", "",
			"the private key of"},
		"no leaf": {[]workbench.Input{above}, workbench.Wish{Shape: "bundle"}, "", "", "",
			"no certificate for a server"},
		"other names": {[]workbench.Input{leaf, above}, workbench.Wish{Shape: "bundle", Name: "tides.example"}, "", "",
			"", "does not cover"},
	} {
		t.Run(name, func(t *testing.T) {
			p, err := workbench.Pack(tt.inputs, nil, tt.wish, now)
			require.NoError(t, err)
			var names []string
			for _, f := range p.Files {
				names = append(names, f.Name)
			}
			assert.Equal(t, tt.files, strings.Join(names, " "))
			if tt.refuse != "" {
				assert.Contains(t, p.Refused, tt.refuse)
				return
			}
			assert.Empty(t, p.Refused)
			assert.Contains(t, p.Notes[0], tt.note)
			if tt.line != "" {
				assert.Contains(t, p.Lines, tt.line)
			}
		})
	}
	_, err := workbench.Pack(nil, nil, workbench.Wish{Server: "none"}, now)
	require.Error(t, err)
}
