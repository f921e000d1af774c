package ciphers_test

import (
	"os"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/core/ciphers"
	"nurvik/core/tlswire"
)

// TestDisabledAlgorithmsAreJavas: the file was written by a Java 17 runtime.
func TestDisabledAlgorithmsAreJavas(t *testing.T) {
	data, err := os.ReadFile("testdata/java-disabled.txt")
	require.NoError(t, err)
	all := ciphers.Java{Major: 17}.Supported()
	for _, part := range strings.Split(string(data), "\n= ")[1:] {
		lines := strings.Split(strings.TrimSpace(part), "\n")
		t.Run(lines[0], func(t *testing.T) {
			var gone []string
			left := ciphers.Java{Major: 17, Disabled: lines[0]}.Supported()
			for _, name := range all {
				if !slices.Contains(left, name) {
					gone = append(gone, name)
				}
			}
			slices.Sort(gone)
			want := slices.Sorted(slices.Values(lines[1:]))
			if len(want) == 0 {
				want = nil
			}
			assert.Equal(t, want, gone)
		})
	}
}

func TestJavaLists(t *testing.T) {
	j := ciphers.Java{Major: 17, Disabled: ciphers.JavaDefault}
	usual := j.Default()
	assert.Equal(t, []tlswire.Suite{0x1302, 0x1301, 0x1303}, usual.Suites13)
	assert.Len(t, usual.Suites, 33)

	got := j.List([]string{"TLS_RSA_WITH_AES_128_CBC_SHA", "SSL_RSA_WITH_RC4_128_SHA", "TLS_AES_128_GCM_SHA256",
		"TLS_FANTASY"})
	assert.Equal(t, []tlswire.Suite{0x002f}, got.Suites, "RC4 is disabled")
	assert.Equal(t, []tlswire.Suite{0x1301}, got.Suites13)
	assert.Equal(t, []string{"TLS_FANTASY"}, got.Unknown)
	assert.Len(t, ciphers.Java{}.List([]string{"TLS_RSA_WITH_RC4_128_SHA"}).Suites, 1, "by either name")

	versions, unknown := j.Versions([]string{"TLSv1.1", "TLSv1.3", "TLSv1.2", "TLS1.2"})
	assert.Equal(t, []tlswire.Version{tlswire.TLS13, tlswire.TLS12}, versions)
	assert.Equal(t, []string{"TLS1.2"}, unknown)

	newer := ciphers.Java{Major: 24, Disabled: "TLS_RSA_*"}
	assert.NotContains(t, newer.Supported(), "TLS_RSA_WITH_AES_128_CBC_SHA")
	assert.Contains(t, newer.Supported(), "TLS_ECDHE_RSA_WITH_AES_128_CBC_SHA")
}

func FuzzJava(f *testing.F) {
	f.Add("TLS_RSA_*, anon", "TLS_AES_128_GCM_SHA256,SSL_RSA_WITH_NULL_MD5")
	f.Add("DH keySize < 1024,,", "")
	f.Fuzz(func(t *testing.T, disabled, names string) {
		j := ciphers.Java{Major: 24, Disabled: disabled}
		got := j.List(strings.Split(names, ","))
		require.LessOrEqual(t, len(got.Suites13), strings.Count(names, ",")+1)
		require.LessOrEqual(t, len(j.Default().Suites), 52)
	})
}
