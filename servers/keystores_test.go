//go:build servers

package servers_test

import (
	"crypto/x509"
	"encoding/pem"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/core/forge"
)

// TestJavaReadsKeystores packs keystores of every kind, and has Java's own code read them: the list, and the key, which
// it has to decrypt to put it into a keystore of its own.
func TestJavaReadsKeystores(t *testing.T) {
	program := filepath.Join(t.TempDir(), "nurvik")
	output, err := exec.Command("go", "build", "-o", program, "../cmd/nurvik").CombinedOutput()
	require.NoError(t, err, string(output))
	const password = "Lodestar 7"
	for _, kind := range []string{"EC", "RSA"} {
		heap := t.TempDir()
		rootKey, _ := newKey(t, "EC")
		root, err := forge.NewAuthority(nil, rootKey, forge.ECDSASHA256,
			forge.Template{Name: "Harbour Root", From: time.Now().Add(-time.Hour), Until: time.Now().AddDate(1, 0, 0)})
		require.NoError(t, err)
		key, _ := newKey(t, "EC")
		issuing, err := forge.NewAuthority(root, key, forge.ECDSASHA256,
			forge.Template{Name: "Harbour Issuing", From: time.Now().Add(-time.Hour),
				Until: time.Now().AddDate(1, 0, 0)})
		require.NoError(t, err)
		own, _ := newKey(t, kind)
		issue(t, heap, "tides", issuing, own, nil, []string{host})
		write(t, filepath.Join(heap, "root.crt"), pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: root.DER}))
		write(t, filepath.Join(heap, "password.txt"), []byte(password+"\n"))
		pkcs8, err := x509.MarshalPKCS8PrivateKey(own)
		require.NoError(t, err)

		for name, tt := range map[string]struct {
			options []string
			file    string
		}{
			"PKCS#12":             {nil, "tides.p12"},
			"PKCS#12, compatible": {[]string{"--protection", "compatible"}, "tides.p12"},
			"PKCS#12, with root":  {[]string{"--with-root"}, "tides.p12"},
			"JKS":                 {[]string{"--keystore-type", "jks"}, "tides.jks"},
		} {
			t.Run(kind+", "+name, func(t *testing.T) {
				into := t.TempDir()
				keystore, copied := filepath.Join(into, tt.file), filepath.Join(into, "copied.p12")
				run := func(program string, arguments ...string) string {
					t.Helper()
					output, err := exec.Command(program, arguments...).CombinedOutput()
					require.NoError(t, err, "%s %v\n%s", program, arguments, output)
					return string(output)
				}
				run(program, append([]string{"pack", heap, "--shape", "keystore", "--out", into, "--file", "tides",
					"--alias",
					"harbour", "--new-password-file", filepath.Join(heap, "password.txt")}, tt.options...)...)
				listed := run("keytool", "-list", "-v", "-keystore", keystore, "-storepass", password)
				chain := "Certificate chain length: 2"
				if len(tt.options) > 0 && tt.options[0] == "--with-root" {
					chain = "Certificate chain length: 3"
				}
				for _, text := range []string{"Alias name: harbour", "Entry type: PrivateKeyEntry", chain, "CN=" +
					host} {
					assert.Contains(t, listed, text)
				}
				run("keytool", "-importkeystore", "-srckeystore", keystore, "-srcstorepass", password, "-srcalias",
					"harbour",
					"-destkeystore", copied, "-deststoretype", "PKCS12", "-deststorepass", password, "-noprompt")
				opened := run("openssl", "pkcs12", "-in", copied, "-passin", "pass:"+password, "-nocerts", "-nodes")
				block, _ := pem.Decode([]byte(opened))
				require.NotNil(t, block)
				assert.Equal(t, pkcs8, block.Bytes, "the key that Java decrypted")
			})
		}
	}
}
