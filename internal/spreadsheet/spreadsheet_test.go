package spreadsheet_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/core/endpoint"
	"nurvik/internal/spreadsheet"
)

func TestTables(t *testing.T) {
	estate := []endpoint.Settings{{Endpoint: "tides.example:443", Trust: []string{"outer"}, Policy: "strict",
		Labels: map[string]string{"quay": "north", "owner": "pilots"}}}
	for name, tt := range map[string]struct {
		text    string
		columns map[string]string
		want    []endpoint.Settings
		unused  []string
	}{
		"what has no column stays": {"endpoint,labels.owner\ntides.example,cranes\n", nil,
			[]endpoint.Settings{{Endpoint: "tides.example:443", Trust: []string{"outer"}, Policy: "strict",
				Labels: map[string]string{"quay": "north", "owner": "cranes"}}}, nil},
		"an empty cell takes away": {"endpoint,labels.owner,policy,trust\ntides.example:443,,,\n", nil,
			[]endpoint.Settings{{Endpoint: "tides.example:443", Labels: map[string]string{"quay": "north"}}}, nil},
		"a short line says nothing of the rest": {"endpoint,policy\ntides.example\n", nil, estate, nil},
		"headings of their own, with semicolons and a byte order mark": {
			"\ufeffHost;Port;Team;Floor\nferries.example;8443;crew;3\n\n2001:db8::1;443;;\n",
			map[string]string{"endpoint": "Host", "port": "Port", "labels.owner": "Team"},
			[]endpoint.Settings{{Endpoint: "ferries.example:8443", Labels: map[string]string{"owner": "crew"}},
				{Endpoint: "[2001:db8::1]:443"}}, []string{"Floor"}},
		"lists and quotes": {"endpoint\tnames\thttp-port\tauthenticated\r\nsmtp://post.example\t" +
			"\"post.example, mail.example\nmx.example\"\t8080\tYes\r\n", nil,
			[]endpoint.Settings{{Endpoint: "post.example:25", Names: []string{"post.example", "mail.example",
				"mx.example"}, HTTPPort: 8080, Authenticated: true}}, nil},
		"a scheme and the same port": {"endpoint,port\nldaps://dir.example,636\n", nil,
			[]endpoint.Settings{{Endpoint: "dir.example:636"}}, nil},
		"no endpoints": {"endpoint\n,\n", nil, nil, nil},
	} {
		t.Run(name, func(t *testing.T) {
			s, err := spreadsheet.Parse("quay.csv", []byte(tt.text), tt.columns)
			if name == "no endpoints" {
				assert.ErrorContains(t, err, "quay.csv:2: it has 2 cells, and there are 1 headings")
				return
			}
			require.NoError(t, err)
			got, err := s.Over(estate)
			require.NoError(t, err)
			assert.Equal(t, tt.want, got)
			assert.Equal(t, tt.unused, s.Unused)
			assert.Equal(t, "pilots", estate[0].Labels["owner"], "the estate itself is left alone")
		})
	}
}

func TestDefects(t *testing.T) {
	for name, tt := range map[string]struct {
		text    string
		columns map[string]string
		words   string
	}{
		"nothing":           {"", nil, "quay.csv:1: a line of headings is missing"},
		"no endpoint":       {"Host,Team\n", nil, "name it with --column endpoint=HEADING"},
		"another encoding":  {"endpoint\nf\xe4hre.example\n", nil, "save it as CSV with UTF-8"},
		"a misspelt key":    {"endpoint\n", map[string]string{"polcy": "Policy"}, `"policy" may be meant`},
		"no such column":    {"endpoint\n", map[string]string{"policy": "Policy"}, `no column has the heading "Policy"`},
		"one column twice":  {"Host\n", map[string]string{"endpoint": "Host", "policy": "Host"}, `the column "Host" is taken`},
		"two columns alike": {"endpoint,policy,policy\n", nil, "two columns are taken for policy"},
		"an open quote":     {"endpoint\n\"tides.example\n", nil, `quay.csv:`},
		"no port":           {"endpoint,port\ntides.example,https\n", nil, `quay.csv:2: "https" is no port`},
		"two ports": {"endpoint,port\ntides.example:8443,443\n", nil,
			"has the port 8443, and the column for it says 443"},
		"neither": {"endpoint,authenticated\ntides.example,maybe\n", nil, `"maybe" is neither true nor false`},
		"a name that is none": {"endpoint,names\nferries.example,ok.example\ntides.example,a..b\n", nil,
			"quay.csv:3: "},
		"no host": {"endpoint\nti des\n", nil, "quay.csv:2: "},
		"twice": {"endpoint\ntides.example\ntides.example:443\n", nil,
			"is listed twice, first in line 2"},
	} {
		t.Run(name, func(t *testing.T) {
			s, err := spreadsheet.Parse("quay.csv", []byte(tt.text), tt.columns)
			if err == nil {
				_, err = s.Over(nil)
			}
			assert.ErrorContains(t, err, tt.words)
		})
	}
}

// FuzzParse: whatever is accepted has endpoints in their canonical form, each once.
func FuzzParse(f *testing.F) {
	f.Add([]byte("endpoint,port,labels.owner\ntides.example,443,cranes\n2001:db8::1,8443,\n"))
	f.Add([]byte("\ufeffendpoint;names\nsmtp://post.example;\"a.example, b.example\"\n"))
	f.Add([]byte("endpoint\tauthenticated\nx\tyes\n\"y\t\n"))
	f.Fuzz(func(t *testing.T, data []byte) {
		s, err := spreadsheet.Parse("quay.csv", data, nil)
		if err != nil {
			return
		}
		list, err := s.Over(nil)
		if err != nil {
			return
		}
		seen := map[string]bool{}
		for _, e := range list {
			require.False(t, seen[e.Endpoint])
			seen[e.Endpoint] = true
			again := e
			require.Empty(t, again.Settle(endpoint.Known{}))
			require.Equal(t, e.Endpoint, again.Endpoint)
		}
	})
}
