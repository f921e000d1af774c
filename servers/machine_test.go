//go:build servers

package servers_test

import (
	"encoding/json"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/core/facts"
)

// roots are the notes on ten certificates of Debian's trust store that are
// older than the rules: a serial number of zero, or a year that is written in
// the wrong form. They are so, and stay so.
const roots = 10

// malformed is one note of that kind, which a file of a single root has.
var malformed = map[string]int{"file.malformed-certificate note": 1}

// onMachine are the findings that are true of a Debian machine with the
// servers of this test, by package and file. Nothing else may be found. A file
// that is not there is not missed: its package may not be installed.
var onMachine = map[string]map[string]int{
	// ca-certificates: see roots; each is met once, under the first of its links.
	"/etc/ssl/certs/ca-certificates.crt":                          {"file.malformed-certificate note": roots},
	"/etc/ssl/certs/09789157.0":                                   malformed,
	"/etc/ssl/certs/32888f65.0":                                   malformed,
	"/etc/ssl/certs/40193066.0":                                   malformed,
	"/etc/ssl/certs/4bfab552.0":                                   malformed,
	"/etc/ssl/certs/7719f463.0":                                   malformed,
	"/etc/ssl/certs/Go_Daddy_Class_2_CA.pem":                      malformed,
	"/etc/ssl/certs/Go_Daddy_Root_Certificate_Authority_-_G2.pem": malformed,
	"/etc/ssl/certs/Security_Communication_RootCA2.pem":           malformed,
	"/etc/ssl/certs/Security_Communication_Root_CA.pem":           malformed,
	"/etc/ssl/certs/Starfield_Class_2_CA.pem":                     malformed,
	// ca-certificates-java: the same certificates in a Java keystore.
	"/etc/ssl/certs/java/cacerts": {"file.malformed-certificate note": roots},
	// ssl-cert: makes a self-signed certificate for localhost, and lets the group ssl-cert read its key.
	"/etc/ssl/certs/ssl-cert-snakeoil.pem":   {"trust.self-signed fault": 1},
	"/etc/ssl/private/ssl-cert-snakeoil.key": {"key.exposed note": 1},
}

// byConfiguration are the findings that are true of what Debian's packages configure. All have group.no-hybrid, since
// OpenSSL knows hybrid groups from release 3.5 on.
var byConfiguration = map[string]map[string]int{
	// postfix: opportunistic TLS with the certificate of ssl-cert, where any suite is better than none. It speaks TLS
	// 1.0 since it sets the library's security level to 0 itself.
	"/etc/postfix/main.cf": {"config.obsolete-protocol risk": 1, "suite.client-decides risk": 1,
		"suite.anonymous note":          1,
		"suite.no-forward-secrecy note": 1, "group.no-hybrid note": 1},
	// postgresql: the suites with RSA key exchange are in its default.
	"/etc/postgresql/15/main/postgresql.conf": {"suite.no-forward-secrecy note": 1, "group.no-hybrid note": 1},
	"/etc/dovecot/dovecot.conf":               {"group.no-hybrid note": 1},
}

// unusual are two roots of ca-certificates whose keys have the public exponent
// 3. Only material that is judged by itself shows it: they are in no chain.
var unusual = map[string]map[string]int{
	"/etc/ssl/certs/Go_Daddy_Class_2_CA.pem":  {"key.unusual note": 1},
	"/etc/ssl/certs/Starfield_Class_2_CA.pem": {"key.unusual note": 1},
	"/etc/ssl/certs/ca-certificates.crt":      {"key.unusual note": 2},
	"/etc/ssl/certs/java/cacerts":             {"key.unusual note": 2},
}

// inShare are the defects that files in /usr/share really have.
var inShare = map[string]map[string]int{
	// ca-certificates: an example with words where the certificate would be.
	"/usr/share/doc/ca-certificates/examples/ca-certificates-local/local/Local_Root_CA.crt": {"damaged": 1,
		"white-space": 1},
}

// TestNoFalseAlarm looks at this machine, as an administrator would first.
func TestNoFalseAlarm(t *testing.T) {
	program := filepath.Join(t.TempDir(), "nurvik")
	output, err := exec.Command("go", "build", "-o", program, "../cmd/nurvik").CombinedOutput()
	require.NoError(t, err, string(output))
	// say runs a command and reads its JSON into out.
	say := func(t *testing.T, out any, arguments ...string) {
		t.Helper()
		result, err := exec.Command(program, append(arguments, "-o", "json")...).Output()
		if _, ended := err.(*exec.ExitError); !ended {
			require.NoError(t, err)
		}
		require.NoError(t, json.Unmarshal(result, out))
	}
	type findings []struct{ Code, Severity string }
	counted := func(found findings, into map[string]int) map[string]int {
		for _, f := range found {
			into[f.Code+" "+f.Severity]++
		}
		return into
	}

	t.Run("audit /etc", func(t *testing.T) {
		var audit struct {
			Targets []struct {
				Target   string
				Findings findings
			}
			Unexamined []any
		}
		say(t, &audit, "audit", "/etc")
		assert.Empty(t, audit.Unexamined)
		assert.NotEmpty(t, audit.Targets)
		got := map[string]map[string]int{}
		for _, target := range audit.Targets {
			got[target.Target] = counted(target.Findings, map[string]int{})
		}
		want := maps.Clone(onMachine)
		maps.Copy(want, byConfiguration)
		compare(t, want, got)
	})
	t.Run("pair /etc", func(t *testing.T) {
		var pair struct {
			Groups []struct{ Certificates, Keys []any }
			Files  []struct {
				Path     string
				Findings findings
			}
			Unexamined []any
		}
		say(t, &pair, "pair", "/etc")
		assert.Empty(t, pair.Unexamined)
		for _, g := range pair.Groups {
			assert.NotEmpty(t, g.Certificates)
			assert.NotEmpty(t, g.Keys)
		}
		got := map[string]map[string]int{}
		for _, file := range pair.Files {
			got[file.Path] = counted(file.Findings, map[string]int{})
		}
		want := map[string]map[string]int{}
		for path, findings := range onMachine {
			want[path] = maps.Clone(findings)
			for what, n := range unusual[path] {
				want[path][what] = n
			}
			delete(want[path], "trust.self-signed fault") // a key and its certificate are no question of trust
		}
		compare(t, want, got)
	})
	t.Run("identify /usr/share", func(t *testing.T) {
		var identified struct {
			Files []struct {
				Path    string
				Defects []facts.Defect
			}
			Unexamined []any
		}
		say(t, &identified, "identify", "/usr/share")
		assert.Empty(t, identified.Unexamined)
		got := map[string]map[string]int{}
		for _, file := range identified.Files {
			got[file.Path] = map[string]int{}
			for _, d := range file.Defects {
				if d.Grammar != facts.Standard {
					got[file.Path][string(d.Kind)]++
				}
			}
		}
		compare(t, inShare, got)
	})
}

// compare holds what was found in each file against the list.
func compare(t *testing.T, want, got map[string]map[string]int) {
	t.Helper()
	for _, path := range slices.Sorted(maps.Keys(want)) {
		if _, err := os.Stat(path); err == nil {
			assert.Contains(t, got, path)
		}
	}
	for path, found := range got {
		if expected := want[path]; len(expected) > 0 {
			assert.Equal(t, expected, found, path)
		} else {
			assert.Empty(t, found, path)
		}
	}
}
