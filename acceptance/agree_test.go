package acceptance

import (
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/core/judge"
	"nurvik/core/pki"
	"nurvik/core/probe"
	"nurvik/internal/audit"
)

// ofChains are the codes that are about the certificates of a chain, whoever asks.
func ofChains(j judge.Judgement) []string {
	var out []string
	for _, f := range j.Findings {
		family, _, _ := strings.Cut(f.Code, ".")
		// How a file is written is told by audit; a duplicate is told by both, each in its way.
		if slices.Contains([]string{"chain", "trust", "name", "time", "algo", "revoke"}, family) &&
			f.Code != "chain.duplicate" {
			out = append(out, f.Code+" "+string(f.Severity))
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// TestAuditAndChainAgree asks both about every file of every machine.
func TestAuditAndChainAgree(t *testing.T) {
	words, err := os.ReadFile(filepath.Join(filepath.Dir(estate.Hosts), "passwords.txt"))
	require.NoError(t, err)
	passwords := strings.Split(strings.TrimSpace(string(words)), "\n")
	compared := 0
	for _, root := range []string{estate.Hosts, filepath.Join(filepath.Dir(estate.Hosts), "files")} {
		require.NoError(t, filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
			if err != nil || !d.Type().IsRegular() {
				return err
			}
			judged := func(heap bool) *audit.Report {
				plan, err := audit.NewPlan(t.Context(), audit.Request{Targets: []string{path}, Heap: heap,
					Trust: []string{anchors("outer")}, Names: []string{"tides.tarnholm.example"}, Passwords: passwords})
				require.NoError(t, err, path)
				return plan.Run(t.Context(), audit.Options{At: time.Now(), Prober: &probe.Prober{}})
			}
			apart, together := judged(false), judged(true)
			if len(apart.Targets) != 1 || len(together.Targets) != 1 {
				return nil
			}
			one, other := apart.Targets[0].Judgement, together.Targets[0].Judgement
			if len(one.Chains) == 0 && !slices.ContainsFunc(other.Certificates,
				func(c pki.Description) bool { return !c.CA || c.Subject == c.IssuerName && len(c.Names) > 0 }) {
				return nil // authorities alone: a store to one, and to the other what was asked about
			}
			compared++
			assert.Equal(t, ofChains(one), ofChains(other), path)
			return nil
		}))
	}
	assert.Greater(t, compared, 40)
}
