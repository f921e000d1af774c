package intake

import (
	"encoding/base64"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

// TestMentions: only what may be a line around a block has the whole text looked at closely.
func TestMentions(t *testing.T) {
	for text, want := range map[string]bool{
		"-----BEGIN CERTIFICATE-----":           true,
		"&#45;&#45;BEGIN CERTIFICATE&#45;":      true,
		"\u2014BEGIN CERTIFICATE\u2014":         true,
		"--=2D-BEGIN CERTIFICATE=2D--":          true,
		"---- BEGIN SSH2 PUBLIC KEY ----":       true,
		"-----end certificate-----":             true,
		"MIIB\n-----END CERTIFICATE-----":       true,
		"-- BEGIN of the berths\n-- the end --": false,
		"if (tide) -- END IF;\n":                false,
		"the BEGIN and the END -- of it":        false,
		"-begin \n-end \n--":                    false,
		"-begin x\n-----begin certificate-----": true,
		"":                                      false,
	} {
		assert.Equal(t, want, mentionsBlocks([]byte(text)), "%q", text)
	}
}

// TestPromisesBase64: material is met wherever it begins in a run of base64, words and hashes are passed over.
func TestPromisesBase64(t *testing.T) {
	block := "-----BEGIN CERTIFICATE-----\nMIIB\n-----END CERTIFICATE-----\n"
	for name, c := range map[string]struct {
		text string
		want bool
	}{
		"DER":                {"tls.crt: MIIBszCCAVmgAwIBAgIUQmVydGhzIG9mIHRoZSBoYXJib3Vy", true},
		"a block":            {"tls.crt: " + base64.StdEncoding.EncodeToString([]byte(block)), true},
		"behind one letter":  {"a: " + base64.StdEncoding.EncodeToString([]byte("\n"+block)), true},
		"behind two letters": {"a: " + base64.StdEncoding.EncodeToString([]byte("#\n"+block)), true},
		"behind a comment":   {"a: " + base64.StdEncoding.EncodeToString([]byte("# the tide gauge\n"+block)), true},
		"in short lines":     {"a: |\n  LS0tLS1CRUdJTi\n  BDRVJUSUZJ\n", true},
		"a hash":             {"sha512-" + strings.Repeat("q0xR", 20), false},
		"words":              {strings.Repeat("Many boats may moor. ", 20), false},
	} {
		t.Run(name, func(t *testing.T) { assert.Equal(t, c.want, promisesBase64([]byte(c.text))) })
	}
}
