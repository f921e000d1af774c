package ciphers_test

import (
	"errors"
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/core/ciphers"
	"nurvik/core/tlswire"
)

// opensslLists are lists as they stand in configurations, and some that try each operator.
var opensslLists = []string{
	"DEFAULT", "ALL", "HIGH", "MEDIUM", "LOW", "ALL:COMPLEMENTOFALL", "COMPLEMENTOFDEFAULT", "eNULL", "aNULL",
	"HIGH:!aNULL:!MD5", "HIGH:!aNULL", "ECDHE+AESGCM:ECDHE+CHACHA20:DHE+AESGCM", "PROFILE=SYSTEM:HIGH",
	"kRSA", "kEDH", "kDHE", "DH", "kEECDH", "ECDH", "kPSK", "kRSAPSK", "kDHEPSK", "kECDHEPSK", "kSRP", "PSK", "SRP",
	"aRSA", "aDSS", "DSS", "aECDSA", "ECDSA", "aPSK", "aSRP", "EDH", "DHE", "EECDH", "ECDHE", "NULL", "RSA", "ADH",
	"AECDH",
	"AES", "AES128", "AES256", "AESGCM", "AESCCM", "AESCCM8", "CAMELLIA", "CAMELLIA128", "CAMELLIA256", "ARIA",
	"ARIA128",
	"ARIA256", "ARIAGCM", "CHACHA20", "MD5", "SHA1", "SHA", "SHA256", "SHA384", "SSLv3", "TLSv1", "TLSv1.0", "TLSv1.2",
	"EECDH+AESGCM:EDH+AESGCM:AES256+EECDH:AES256+EDH", "ALL:!ADH:!LOW:!EXP:!MD5:@STRENGTH", "ALL:@STRENGTH",
	"AES128:AES256:@STRENGTH", "HIGH:-AES256:AES256", "HIGH:+kRSA", "ALL:-AES:AES128", "ALL:+AES256:-SHA1:SHA1",
	"AES256-SHA:AES128-SHA:@SECLEVEL=0", "ECDHE-RSA-AES128-GCM-SHA256 ECDHE-RSA-AES256-GCM-SHA384",
	"ECDHE-RSA-AES128-GCM-SHA256,AES128-SHA;AES256-SHA", "RC4:HIGH", "TLS_RSA_WITH_AES_128_CBC_SHA:AES256-SHA",
	"HIGH:!kRSA:!DHE", "ALL:!aNULL:!eNULL:-kRSA:+SHA1:AES", "DEFAULT:@STRENGTH", "DEFAULT:!AES128", "HIGH:DEFAULT",
	"AES+SHA256:AES+SHA1", "ECDHE:-ECDHE:ALL", "aRSA:-aRSA:ALL:!PSK", "COMPLEMENTOFALL:ALL", "kRSA+AES128+SHA:kRSA",
	"ALL:-SSLv3:-TLSv1:TLSv1", "AESGCM:CHACHA20:+AESGCM", "ALL:eNULL:+eNULL", "ALL:-ALL:HIGH",
	"CAMELLIA:ARIA:@STRENGTH",
	"ALL:aNULL:-aNULL:aNULL+AES", "CHACHA20:AESGCM:!DHE:!aNULL:@STRENGTH", "@SECLEVEL=1:HIGH", "DEFAULT@SECLEVEL=1",
	"HIGH:FANTASY:!NOTHING", "ALL:!AESCCM:+CAMELLIA", "!ECDHE:ALL", "+ECDHE:ALL",
}

// TestListsAreOpenSSLs compares with the library itself, order included.
func TestListsAreOpenSSLs(t *testing.T) {
	for _, list := range opensslLists {
		t.Run(list, func(t *testing.T) {
			t.Parallel()
			out, err := exec.Command("openssl", "ciphers", list).Output()
			got, refused := ciphers.Debian.List(list)
			if err != nil {
				assert.ErrorIs(t, refused, ciphers.ErrNoCipher)
				return
			}
			require.NoError(t, refused)
			var want []string
			for name := range strings.SplitSeq(strings.TrimSpace(string(out)), ":") {
				if !strings.HasPrefix(name, "TLS_") {
					want = append(want, name)
				}
			}
			assert.Equal(t, want, ciphers.OpenSSLNames(got.Suites))
		})
	}
}

func TestWeakBuilds(t *testing.T) {
	weak := ciphers.OpenSSL{Major: 1, Minor: 1, Weak: true, Level: 1}
	allowed, err := weak.List("RC4:3DES")
	require.NoError(t, err)
	names := ciphers.OpenSSLNames(allowed.Suites)
	assert.Contains(t, names, "RC4-SHA")
	assert.Contains(t, names, "DES-CBC3-SHA")
	allowed, err = weak.List("DEFAULT")
	require.NoError(t, err)
	assert.NotContains(t, ciphers.OpenSSLNames(allowed.Suites), "DES-CBC3-SHA", "they are not in the default")

	allowed, err = ciphers.Debian.List("RC4-SHA:3DES:AES128-SHA")
	require.NoError(t, err)
	assert.Equal(t, []string{"AES128-SHA"}, ciphers.OpenSSLNames(allowed.Suites))
	assert.Equal(t, []string{"RC4-SHA"}, allowed.Unknown, "3DES is a word although no suite has it")
}

func TestLevelsAndWords(t *testing.T) {
	tests := []struct {
		name, list string
		level      int
		unknown    []string
		err        error
	}{
		{"no level", "HIGH", ciphers.NoLevel, nil, nil},
		{"a level", "HIGH:@SECLEVEL=0", 0, nil, nil},
		{"the last level counts", "@SECLEVEL=0:HIGH:@SECLEVEL=3", 3, nil, nil},
		{"a level behind the default", "DEFAULT@SECLEVEL=1", 1, nil, nil},
		{"a level that there is not", "HIGH:@SECLEVEL=6", ciphers.NoLevel, nil, ciphers.ErrBadCommand},
		{"another command", "HIGH:@WEAKNESS", ciphers.NoLevel, nil, ciphers.ErrBadCommand},
		{"words that are none", "HIGH:HIHG:!aNUL", ciphers.NoLevel, []string{"HIHG", "aNUL"}, nil},
		{"nothing is left", "HIGH:!ALL", ciphers.NoLevel, nil, ciphers.ErrNoCipher},
		{"nothing at all", "", ciphers.NoLevel, nil, ciphers.ErrNoCipher},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			got, err := ciphers.Debian.List(tt.list)
			assert.Equal(t, tt.level, got.Level)
			assert.Equal(t, tt.unknown, got.Unknown)
			assert.Truef(t, errors.Is(err, tt.err), "%v", err)
		})
	}
}

func TestSuites13(t *testing.T) {
	got := ciphers.Debian.Suites13("TLS_AES_128_GCM_SHA256:TLS_AES_257:TLS_AES_256_GCM_SHA384")
	assert.Equal(t, []tlswire.Suite{0x1301, 0x1302}, got.Suites13)
	assert.Equal(t, []string{"TLS_AES_257"}, got.Unknown)
}

func FuzzOpenSSLList(f *testing.F) {
	for _, list := range opensslLists {
		f.Add(list)
	}
	f.Fuzz(func(t *testing.T, list string) {
		got, err := ciphers.Debian.List(list)
		seen := map[tlswire.Suite]bool{}
		for _, s := range got.Suites {
			require.False(t, seen[s], "%s twice", s)
			seen[s] = true
		}
		require.Equal(t, err == nil, err == nil && len(got.Suites) > 0)
	})
}
