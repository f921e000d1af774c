package acceptance

import (
	"os"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestQuestionsLeaveTheRecordAlone saves policies, assigns them and asks
// what-ifs, as a user does with the client.
func TestQuestionsLeaveTheRecordAlone(t *testing.T) {
	t.Parallel()
	d := serve(t, dataDirectory(t), "--handshake-timeout", "5s")
	policyFile := func(name, text string) string {
		path := filepath.Join(t.TempDir(), name)
		require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
		return path
	}
	misspelt := policyFile("misspelt.yaml", "name: mild\ninherits: open-web\nseverites: {time.expired: note}\n")
	mild := policyFile("mild.yaml", "name: mild\ninherits: open-web\nseverities: {time.expired: note}\n")
	ten := policyFile("quay.pem", readEstate(t, "tides-fullchain.pem"))
	owners := filepath.Join(t.TempDir(), "owners.csv")
	require.NoError(t, os.WriteFile(owners, []byte("Host;Team;Floor\ncranes.tarnholm.example;crew;3\n"), 0o600))
	table := []string{"estate", "import", owners, "--column", "endpoint=Host", "--column", "labels.owner=Team"}
	const tides, cranes = "tides.tarnholm.example", "cranes.tarnholm.example"

	soon := time.Now().AddDate(0, 0, 20).Format(time.DateOnly)
	steps := []struct {
		name   string
		call   []string
		status int
		stdout string
		stderr string
	}{
		{"what would come", []string{"estate", "import", "--dry-run", estate.EstateFile}, 0,
			"151 endpoints would be added, 0 changed, 0 unchanged, 0 removed", ""},
		{"an estate", []string{"estate", "import", estate.EstateFile}, 0, "151 endpoints added", ""},
		{"the same once more", []string{"estate", "import", "--dry-run", "--replace", estate.EstateFile}, 0,
			"0 endpoints would be added, 0 changed, 151 unchanged, 0 removed", ""},
		{"a table without its columns", []string{"estate", "import", owners}, 2, "", "--column endpoint=HEADING"},
		{"what a table would change", slices.Concat(table, []string{"--dry-run"}), 0,
			"~ cranes.tarnholm.example:443\n    labels: {\"about\":\"expired yesterday\"}, would be " +
				"{\"about\":\"expired yesterday\",\"owner\":\"crew\"}", "nothing is taken from the columns Floor"},
		{"a table", table, 0, "0 endpoints added, 1 changed, 0 unchanged, 0 removed", ""},
		{"counts", []string{"estate", "export"}, 0, "owner: crew", ""},
		{"of what was never visited nothing is known", []string{"what-if", tides, "--at", "+1d"}, 3,
			"Not judged, because never visited: 1 endpoint.", ""},
		{"the record", []string{"run", tides, cranes, "--follow"}, 1, "1 faulty", ""},
		{"run asks no questions", []string{"run", tides, "--at", "+2y"}, 2, "", "unknown flag: --at"},
		{"nor by another policy", []string{"run", tides, "--policy", "strict"}, 2, "", "unknown flag: --policy"},
		{"in two years", []string{"what-if", tides, "--at", "+104w"}, 1, "+ time.expired  fault", ""},
		{"and nothing counts", []string{"what-if", tides, "--at", "+104w", "--fail-from", "never"}, 0, "+ time.expired",
			""},
		{"the record is as it was", []string{"estate", "list", "--search", "tides"}, 0, "· sound", ""},
		{"a policy that is misspelt", []string{"what-if", "--policy", misspelt}, 2, "",
			`misspelt.yaml:3: the key "severites" is not known; "severities" may be meant`},
		{"a policy from a file", []string{"what-if", cranes, "--policy", mild}, 0, "+ time.expired  note, now fault",
			""},
		{"they are kept", []string{"what-if", "list"}, 0, "by the policy mild", ""},
		{"and shown again", []string{"what-if", "show", "4"}, 0, "+ time.expired  note, now fault", ""},
		{"a policy is saved", []string{"policy", "save", mild}, 0, "mild", ""},
		{"one is not", []string{"policy", "save", misspelt}, 2, "", "misspelt.yaml:3:"},
		{"assigned to an endpoint", []string{"estate", "change", cranes, "--policy", "mild"}, 0, "", ""},
		{"it counts", []string{"run", cranes, "--follow"}, 0, "1 sound", ""},
		{"and is in use", []string{"policy", "remove", "mild"}, 2, "", "assigned"},
		{"a holding", []string{"collect", ten, "--holding", "quay"}, 0, "",
			`as the holding "quay"`},
		{"has a policy of its own", []string{"holding", "change", "quay", "--policy", "strict"}, 0,
			"changed quay; by the policy strict", ""},
		{"which is shown", []string{"holding", "list"}, 0, "strict", ""},
		{"an unknown one", []string{"holding", "change", "quay", "--policy", "stric"}, 2, "", "stric"},
		{"by cause", []string{"findings", "--by-cause", "--code", "time.expired"}, 0, "1 endpoint", ""},
		{"nothing of it is waived", []string{"findings", "--by-cause", "--waived", "yes"}, 0, "no findings", ""},
		{"by cause alone", []string{"findings", "--by-cause", "--state", "gone"}, 2, "", "--by-cause goes with"},
		{"a waiver without a reason", []string{"waiver", "add", "time.expired", "--until", soon}, 2, "", "--reason"},
		{"of a code that there is not", []string{"waiver", "add", "time.expire", "--until", soon, "--reason", "x"}, 2,
			"", "time.expire"},
		{"the policy's severity is gone", []string{"estate", "change", cranes, "--policy", "strict"}, 0, "", ""},
		{"so it is faulty", []string{"run", cranes, "--follow"}, 1, "1 faulty", ""},
		{"waived", []string{"waiver", "add", "time.expired", "--endpoint", cranes, "--until", soon, "--reason",
			"renewed on Thursday"}, 0, "waiver 1: time.expired until " + soon, ""},
		{"which a finding says", []string{"findings", "--code", "time.expired"}, 0,
			"Waived by harbour-master until " + soon, ""},
		{"and the list", []string{"waiver", "list"}, 0, cranes, ""},
		{"seen", []string{"findings", "--code", "time.expired", "--acknowledge", "--note", "on the list"}, 0,
			"Seen by harbour-master on ", ""},
		{"taken back", []string{"waiver", "remove", "1"}, 0, "", ""},
		{"once", []string{"waiver", "remove", "1"}, 3, "", "waiver 1"},
		{"it is faulty again", []string{"estate", "list", "--search", "cranes"}, 0, "■ faulty", ""},
		{"a schedule at no time", []string{"schedule", "add", "nightly", "--at", "2am"}, 2, "",
			"is no time of the day"},
		{"by two rules", []string{"schedule", "add", "nightly", "--at", "02:00", "--every", "6h"}, 2, "",
			"or at which times"},
		{"a schedule", []string{"schedule", "add", "nightly", "--at", "02:00", "--zone", "Europe/Oslo", "--spread",
			"2h"}, 0, "nightly: at 02:00 (Europe/Oslo), spread over 120 minutes, of 151 endpoints; the next", ""},
		{"another time", []string{"schedule", "change", "nightly", "--every", "6h", "--label", "about=nobody"}, 0,
			"every 6 hours, spread", ""},
		{"paused", []string{"schedule", "pause", "nightly"}, 0, "; paused", ""},
		{"listed", []string{"schedule", "list"}, 0, "about=nobody: 0", ""},
		{"removed", []string{"schedule", "remove", "nightly"}, 0, "", ""},
		{"once", []string{"schedule", "remove", "nightly"}, 3, "", `there is no schedule "nightly"`},
		{"its history", []string{"estate", "history", cranes}, 0, "Examined for the first time.", ""},
		{"of what is not there", []string{"estate", "history", "nowhere.tarnholm.example"}, 3, "", "nowhere"},
		{"a what-if goes", []string{"what-if", "remove", "4"}, 0, "", ""},
		{"and is gone", []string{"what-if", "show", "4"}, 3, "", ""},
	}
	for _, s := range steps {
		o := nurvik(t, append(s.call, "--server", d.address)...)
		assert.Equal(t, s.status, o.status, "%s: %s%s", s.name, o.stdout, o.stderr)
		assert.Contains(t, o.stdout, s.stdout, s.name)
		assert.Contains(t, o.stderr, s.stderr, s.name)
	}
}

func readEstate(t *testing.T, name string) string {
	t.Helper()
	data, err := os.ReadFile(filepath.Join(estate.Files, name))
	require.NoError(t, err)
	return string(data)
}
