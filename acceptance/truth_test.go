package acceptance

import (
	"encoding/json"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v3"

	"nurvik/core/judge"
	"nurvik/internal/audit"
)

// statement is what demo/truth.yaml says of one endpoint or file.
type statement struct {
	Verdict  string   `yaml:"verdict"`
	Findings []string `yaml:"findings"`
}

type truth struct {
	Endpoints map[string]statement `yaml:"endpoints"`
	Files     map[string]statement `yaml:"files"`
	Machines  map[string]statement `yaml:"machines"`
	Renewal   map[string]statement `yaml:"renewal"`
	Deployed  map[string]statement `yaml:"deployed"`
	Vantages  map[string]statement `yaml:"vantages"`
}

func readTruth(t *testing.T) truth {
	t.Helper()
	data, err := os.ReadFile(filepath.Join("..", "demo", "truth.yaml"))
	require.NoError(t, err)
	var out truth
	require.NoError(t, yaml.Unmarshal(data, &out))
	require.NotEmpty(t, out.Endpoints)
	require.NotEmpty(t, out.Files)
	return out
}

// told is a judgement in the words of the truth list: the subject is added
// where a code is found more than once.
func told(j judge.Judgement) statement {
	count := map[string]int{}
	for _, f := range j.Findings {
		count[f.Code]++
	}
	s := statement{Verdict: string(j.Verdict), Findings: []string{}}
	for _, f := range j.Findings {
		text := f.Code + " " + string(f.Severity)
		if count[f.Code] > 1 {
			text += " " + f.Subject
		}
		s.Findings = append(s.Findings, text)
	}
	slices.Sort(s.Findings)
	return s
}

func sorted(s statement) statement {
	s.Findings = append([]string{}, s.Findings...)
	slices.Sort(s.Findings)
	return s
}

// TestAuditTellsTheTruth audits the whole harbour and its files: no finding is
// missing, and none is too many.
func TestAuditTellsTheTruth(t *testing.T) {
	want := readTruth(t)
	o := nurvik(t, "audit", "--estate", estate.EstateFile, estate.Files, estate.Hosts, "--password-file",
		estate.Passwords, "-o",
		"json")
	assert.Equal(t, 1, o.status, o.stderr)
	var report audit.Report
	require.NoError(t, json.Unmarshal([]byte(o.stdout), &report))
	got := truth{Endpoints: map[string]statement{}, Files: map[string]statement{}}
	for _, target := range report.Targets {
		if target.Kind == "file" {
			relative, err := filepath.Rel(filepath.Dir(estate.Hosts), target.Target)
			require.NoError(t, err)
			got.Files[relative] = told(target.Judgement)
		} else {
			got.Endpoints[target.Target] = told(target.Judgement)
		}
	}
	for name, s := range want.Endpoints {
		assert.Equal(t, sorted(s), got.Endpoints[name], name)
	}
	for name, s := range want.Files {
		assert.Equal(t, sorted(s), got.Files[name], name)
	}
	assert.Len(t, got.Endpoints, len(want.Endpoints), "an endpoint that the list does not know")
	assert.Len(t, got.Files, len(want.Files), "a file that the list does not know")
	assert.Len(t, report.Unexamined, 12, "six unreachable ones, five whose certificate nobody saw, and the maze")
}

// TestAuditTellsTheTruthOfConfiguration audits the machines whose servers are configured: what the list does not name
// is
// sound.
func TestAuditTellsTheTruthOfConfiguration(t *testing.T) {
	want := readTruth(t).Machines
	o := nurvik(t, "audit", estate.Machines, "--trust", anchors("outer"), "-o", "json")
	assert.Equal(t, 1, o.status, o.stderr)
	var report audit.Report
	require.NoError(t, json.Unmarshal([]byte(o.stdout), &report))
	for _, target := range report.Targets {
		relative, err := filepath.Rel(filepath.Dir(estate.Machines), target.Target)
		require.NoError(t, err)
		got := told(target.Judgement)
		for i, f := range got.Findings { // subjects begin with the file
			got.Findings[i] = strings.ReplaceAll(f, filepath.Dir(estate.Machines)+"/", "")
		}
		if _, listed := want[relative]; !listed {
			want[relative] = statement{Verdict: "sound"}
		}
		assert.Equal(t, sorted(want[relative]), got, relative)
		delete(want, relative)
	}
	assert.Empty(t, want, "what was not met")
	assert.Empty(t, report.Unexamined)
}

// TestPatchRepairs applies the patch that an audit proposes, as the administrator would, and audits again: what it
// repairs
// is gone, and nothing is new.
func TestPatchRepairs(t *testing.T) {
	machines := t.TempDir()
	require.NoError(t, os.CopyFS(machines, os.DirFS(estate.Machines)))
	audited := func() map[string]bool {
		o := nurvik(t, "audit", machines, "--trust", anchors("outer"), "-o", "json")
		report := decoded[audit.Report](t, o.stdout)
		out := map[string]bool{}
		for _, target := range report.Targets {
			for _, f := range target.Findings {
				out[target.Target+" "+f.Code+" "+f.Subject] = true
			}
		}
		return out
	}
	before := audited()
	o := nurvik(t, "audit", machines, "--trust", anchors("outer"), "--diff")
	assert.Equal(t, 1, o.status, o.stderr)
	patch := exec.Command("patch", "-p0", "-d", "/")
	patch.Stdin = strings.NewReader(o.stdout)
	out, err := patch.CombinedOutput()
	require.NoError(t, err, "%s\n%s", out, o.stdout)
	after := audited()
	for f := range after {
		assert.True(t, before[f], "new: %s", f)
	}
	left := map[string]bool{}
	for f := range after {
		left[strings.Fields(f)[1]] = true
	}
	for _, code := range []string{"config.file-missing", "config.leaf-only", "config.old-set", "config.chain-wrong",
		"config.obsolete-directive", "config.obsolete-protocol", "config.in-name-only", "config.contradiction",
		"config.no-redirect", "suite.anonymous", "suite.client-decides"} {
		assert.False(t, left[code], code)
	}
	again := nurvik(t, "audit", machines, "--trust", anchors("outer"), "--diff")
	assert.Empty(t, again.stdout, "nothing is left that an edit repairs")
}

// TestEveryCodeIsShown holds the harbour to the catalogue.
func TestEveryCodeIsShown(t *testing.T) {
	shown := map[string]bool{}
	all := readTruth(t)
	for _, list := range []map[string]statement{all.Endpoints, all.Files, all.Machines, all.Renewal, all.Deployed,
		all.Vantages} {
		for _, s := range list {
			for _, f := range s.Findings {
				shown[strings.Fields(f)[0]] = true
			}
		}
	}
	shown["reach.examination-failed"] = true // nothing that the harbour could serve is known to lead to it
	shown["trust.timestamps-missing"] = true // only below roots that the distribution ships
	shown["name.unneeded"] = true            // only where a call gives the names: TestCover has one
	for _, code := range []string{"deploy.key-differs", "deploy.not-reloaded", "deploy.other-source",
		"deploy.replaced-elsewhere", "deploy.revoked-still-served"} {
		shown[code] = true // TestWithVisits and TestReplacedElsewhere show them
	}
	for _, e := range judge.Catalogue() {
		assert.True(t, shown[e.Code], "nothing in the harbour shows %s", e.Code)
		delete(shown, e.Code)
	}
	assert.Empty(t, shown, "codes that the catalogue does not know")
}

// isCode tells a code from a name at the end of a line.
func isCode(text string) bool { _, err := judge.Explain(text); return err == nil }

var codeLine = regexp.MustCompile(`([a-z]+\.[a-z0-9-]+)(?:  (fault|risk|note))?$`)

// TestDemo reads the table that "make demo" prints.
func TestDemo(t *testing.T) {
	listen := freeAddress(t)
	o := call(t, "", "nurvikd", "demo", "--once", "--data", dataDirectory(t), "--listen", listen, "--harbour-port", "0",
		"--handshake-timeout", "5s", "--unsafe-disk")
	require.Equal(t, 0, o.status, o.stderr)
	table, rest, found := strings.Cut(o.stdout, "\n\n")
	require.True(t, found)
	got := map[string]statement{}
	target := ""
	for _, line := range strings.Split(table, "\n")[2:] {
		fields := strings.Fields(line)
		if strings.HasPrefix(line, "■") || strings.HasPrefix(line, "◆") || strings.HasPrefix(line, "○") ||
			strings.HasPrefix(line, "·") {
			target = fields[2]
			got[target] = statement{Verdict: fields[1], Findings: []string{}}
		}
		if m := codeLine.FindStringSubmatch(line); m != nil && isCode(m[1]) {
			severity := m[2]
			if severity == "" {
				severity = "none"
			}
			s := got[target]
			s.Findings = append(s.Findings, m[1]+" "+severity)
			got[target] = s
		}
	}
	want := readTruth(t)
	maps.Copy(want.Endpoints, want.Vantages)
	maps.Copy(want.Endpoints, want.Deployed) // the demo sends what the machines hold first
	for name, s := range want.Endpoints {
		for i, f := range s.Findings {
			s.Findings[i] = strings.Join(strings.Fields(f)[:2], " ") // the table shows no subjects
		}
		assert.Equal(t, sorted(s), sorted(got[name]), name)
	}
	assert.Len(t, got, len(want.Endpoints))
	console := strings.Replace(listen, "127.0.0.1", "localhost", 1)
	assert.Contains(t, rest, "Console:  http://"+console+"/", "the console's address comes last")
}
