package acceptance

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/core/naming"
)

type coverage struct {
	Covered bool
	naming.Matrix
}

func TestCover(t *testing.T) {
	file := func(name string) string { return filepath.Join(filepath.Dir(estate.EstateFile), "files", name) }
	list := filepath.Join(t.TempDir(), "needed.txt")
	require.NoError(t, os.WriteFile(list,
		[]byte("# the tide office\ntides.tarnholm.example\n\ntarnholm.example # bare\n"), 0o600))
	for name, tt := range map[string]struct {
		call    []string
		status  int
		needed  int
		covered bool
	}{
		"covered":     {[]string{file("tides.der"), "--name", "tides.tarnholm.example"}, 0, 1, true},
		"not covered": {[]string{file("tides.der"), "--names-from", list}, 1, 2, false},
		"another covers it": {[]string{file("tides.der"), file("lighthouse-bundle.pem"), "--name",
			"lighthouse.tarnholm.example"}, 0, 1, true},
		"the endpoints' own names": {[]string{estate.EstateFile}, 1, 100, false},
		"nothing needed":           {[]string{file("tides.der")}, 2, 0, false},
		"no name":                  {[]string{file("tides.der"), "--name", "a b"}, 2, 0, false},
		"no file":                  {[]string{file("none.pem"), "--name", "a.example"}, 3, 1, false},
		"no certificate":           {[]string{file("README.txt"), "--name", "a.example"}, 3, 1, false},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			o := nurvik(t, append([]string{"cover", "-o", "json"}, tt.call...)...)
			assert.Equal(t, tt.status, o.status, o.stderr)
			if tt.needed == 0 {
				assert.NotEmpty(t, o.stderr)
				return
			}
			c := decoded[coverage](t, o.stdout)
			assert.GreaterOrEqual(t, len(c.Needed), tt.needed)
			assert.Equal(t, tt.covered, c.Covered)
			assert.NotEmpty(t, c.Proposal.Plain)
		})
	}
	told := nurvik(t, "audit", filepath.Join(filepath.Dir(estate.EstateFile), "hosts/nameplates/twice-told.crt"),
		"--trust",
		anchors("outer"), "--name", "tides.tarnholm.example")
	assert.Equal(t, 0, told.status, told.stdout)
	assert.Contains(t, told.stdout, "name.unneeded  note")
	o := nurvik(t, "cover", file("tides.der"), "--names-from", list)
	assert.Contains(t, o.stdout, "tarnholm.example        ■ no")
	assert.Contains(t, o.stdout, "1 of 2 names covered, by 1 certificate.")
}

func TestExpiry(t *testing.T) {
	at := filepath.Dir(estate.EstateFile)
	type listed struct {
		Dues []struct {
			Kind, Label, State string
			Places             []string
		}
		Forecast *struct{ Months []any }
	}
	all := decoded[listed](t, nurvik(t, "expiry", filepath.Join(at, "files"), filepath.Join(estate.Hosts, "desk"),
		"-o", "json", "--forecast").stdout)
	kinds := map[string]bool{}
	for _, d := range all.Dues {
		kinds[d.Kind] = true
		assert.NotEmpty(t, d.Places)
	}
	for _, kind := range []string{"leaf", "intermediate", "anchor", "CRL"} {
		assert.True(t, kinds[kind], kind)
	}
	require.NotNil(t, all.Forecast)
	assert.Greater(t, len(all.Forecast.Months), 36, "until December 2029")
	soon := decoded[listed](t, nurvik(t, "expiry", filepath.Join(at, "files"), "--within", "30d", "-o", "json").stdout)
	assert.Less(t, len(soon.Dues), len(all.Dues))

	served := decoded[listed](t, nurvik(t, "expiry", "--estate", estate.EstateFile, "-o", "json").stdout)
	kinds = map[string]bool{}
	for _, d := range served.Dues {
		kinds[d.Kind+" "+d.State] = true
	}
	for _, kind := range []string{"leaf expired", "leaf expires-soon", "leaf not-yet-valid", "leaf renewal-due",
		"stapled response in-date"} {
		assert.True(t, kinds[kind], "%s in %v", kind, kinds)
	}

	calendar := nurvik(t, "expiry", filepath.Join(at, "files"), "-o", "icalendar")
	assert.Equal(t, 0, calendar.status, calendar.stderr)
	assert.Contains(t, calendar.stdout, "BEGIN:VEVENT")
	for name, call := range map[string][]string{"a calendar of what is none": {"explain", "-o", "icalendar"},
		"no share": {"expiry", at, "--renew", "3/1"}, "no minutes": {"expiry", at, "--minutes", "0"},
		"no time": {"expiry", at, "--within", "soon"}} {
		assert.Equal(t, 2, nurvik(t, call...).status, name)
	}
}
