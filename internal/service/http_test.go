package service_test

import (
	"bufio"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"encoding/base64"
	"encoding/json"
	"encoding/pem"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/internal/api"
	"nurvik/internal/service"
)

// get reads a JSON document below the API's base.
func get(t *testing.T, path string, into any) {
	t.Helper()
	response, err := http.Get(shared.address + api.Base + path)
	require.NoError(t, err)
	defer response.Body.Close()
	require.Equal(t, 200, response.StatusCode)
	require.NoError(t, json.NewDecoder(response.Body).Decode(into))
}

// send makes a request by hand and returns status, type and body.
func send(t *testing.T, method, path, body string, headers map[string]string) (int, string, string) {
	t.Helper()
	r, err := http.NewRequestWithContext(t.Context(), method, shared.address+path, strings.NewReader(body))
	require.NoError(t, err)
	for k, v := range headers {
		if k == "Host" {
			r.Host = v
			continue
		}
		r.Header.Set(k, v)
	}
	response, err := http.DefaultTransport.RoundTrip(r)
	require.NoError(t, err)
	defer response.Body.Close()
	text, err := io.ReadAll(response.Body)
	require.NoError(t, err)
	return response.StatusCode, response.Header.Get("Content-Type"), string(text)
}

func TestGuard(t *testing.T) {
	host := strings.TrimPrefix(shared.address, "http://")
	ok := `{"endpoint":"guarded.tarnholm.example"}`
	asJSON := func(more ...string) map[string]string {
		h := map[string]string{"Content-Type": "application/json"}
		for i := 0; i+1 < len(more); i += 2 {
			h[more[i]] = more[i+1]
		}
		return h
	}
	tests := []struct {
		name    string
		method  string
		path    string
		body    string
		headers map[string]string
		status  int
	}{
		{"another service's Host", "GET", "/api/v1/endpoints", "", map[string]string{"Host": "evil.example"}, 421},
		{"the same for metrics", "GET", "/metrics", "", map[string]string{"Host": "evil.example:8410"}, 421},
		{"localhost is the service", "GET", "/api/v1/endpoints", "", map[string]string{"Host": "localhost:8410"}, 200},
		{"foreign Origin reads", "GET", "/api/v1/endpoints", "", map[string]string{"Origin": "https://evil.example"},
			403},
		{"foreign Origin writes", "POST", "/api/v1/endpoints", ok, asJSON("Origin", "http://127.0.0.1:1"), 403},
		{"opaque Origin", "POST", "/api/v1/endpoints", ok, asJSON("Origin", "null"), 403},
		{"form", "POST", "/api/v1/endpoints", "endpoint=a.example",
			map[string]string{"Content-Type": "application/x-www-form-urlencoded"}, 415},
		{"text that is JSON", "POST", "/api/v1/endpoints", ok, map[string]string{"Content-Type": "text/plain"}, 415},
		{"no type", "POST", "/api/v1/audits/1/cancel", "", nil, 415},
		{"no JSON", "POST", "/api/v1/endpoints", "{", asJSON(), 400},
		{"unknown field", "POST", "/api/v1/endpoints", `{"endpoint":"a.example","endpiont":"b"}`, asJSON(), 422},
		{"bad cursor", "GET", "/api/v1/endpoints?cursor=!!", "", nil, 422},
		{"NUL in a search", "GET", "/api/v1/endpoints?q=%00", "", nil, 422},
		{"NUL in a label", "POST", "/api/v1/endpoints", `{"endpoint":"nul.tarnholm.example","labels":{"a":"\u0000"}}`,
			asJSON(), 422},
		{"NUL in a path", "DELETE", "/api/v1/holdings/%00", "", asJSON(), 422},
		{"no UTF-8 in a path", "PUT", "/api/v1/policies/%ff%fe", `{"text":"name: fender"}`, asJSON(), 422},
		{"NUL in a policy", "PUT", "/api/v1/policies/fender", `{"text":"name: fender\n# \u0000\n"}`, asJSON(), 422},
		{"bad limit", "GET", "/api/v1/endpoints?limit=0", "", nil, 422},
		{"bad identifier", "GET", "/api/v1/endpoints/north", "", nil, 422},
		{"no such operation", "GET", "/api/v1/weather", "", nil, 404},
		{"own Origin", "POST", "/api/v1/endpoints", ok, asJSON("Origin", "http://"+host), 201},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			status, kind, body := send(t, tt.method, tt.path, tt.body, tt.headers)
			assert.Equal(t, tt.status, status, body)
			if status >= 400 && tt.name != "no such operation" {
				assert.Equal(t, "application/problem+json", kind)
				var p struct {
					Status int
					Detail string
				}
				require.NoError(t, json.Unmarshal([]byte(body), &p))
				assert.Equal(t, status, p.Status)
				assert.NotEmpty(t, p.Detail)
			}
		})
	}
	var log api.ActivityPage
	get(t, "/activity", &log)
	var objects []string
	for _, a := range log.Items {
		assert.NotZero(t, a.Status, "what became of %s %s is told", a.Operation, a.Object)
		objects = append(objects, a.Object)
	}
	assert.Subset(t, objects, []string{`\x00`, `\xff\xfe`, "fender"})
}

// TestNoPrivateKeyIsTaken sends keys in every place that a caller could put one,
// and then looks for them in answers, log and database.
func TestNoPrivateKeyIsTaken(t *testing.T) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	der, err := x509.MarshalPKCS8PrivateKey(key)
	require.NoError(t, err)
	block := string(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der}))
	marker := base64.StdEncoding.EncodeToString(der)[40:90]
	quoted := func(v any) string {
		data, err := json.Marshal(v)
		require.NoError(t, err)
		return string(data)
	}
	asJSON := map[string]string{"Content-Type": "application/json"}
	for name, body := range map[string]string{
		"label":        quoted(api.EndpointSettings{Endpoint: "a.example", Labels: map[string]string{"note": block}}),
		"label's name": quoted(api.EndpointSettings{Endpoint: "a.example", Labels: map[string]string{block: "x"}}),
		"endpoint":     quoted(api.EndpointSettings{Endpoint: block}),
		"name":         quoted(api.EndpointSettings{Endpoint: "a.example", Names: []string{block}}),
		"unknown field": quoted(map[string]any{"endpoint": "a.example",
			"anchors": []any{map[string][]byte{"der": der}}}),
		"unknown": quoted(map[string]string{"endpoint": "a.example", "key": block}),
		"bare base64": quoted(api.EndpointSettings{Endpoint: "a.example",
			Labels: map[string]string{"note": base64.StdEncoding.EncodeToString(der)}}),
		"no JSON": block,
	} {
		t.Run(name, func(t *testing.T) {
			status, _, answer := send(t, "POST", "/api/v1/endpoints", body, asJSON)
			assert.Equal(t, 400, status)
			assert.Contains(t, answer, "private key")
			assert.NotContains(t, answer, marker)
		})
	}
	t.Run("query", func(t *testing.T) {
		status, _, answer := send(t, "GET", "/api/v1/endpoints?q="+url.QueryEscape(block), "", nil)
		assert.Equal(t, 400, status)
		assert.NotContains(t, answer, marker)
	})
	assert.NotContains(t, shared.log.String(), marker, "nothing of it is logged")
	grep := exec.Command("grep", "-rlaF", marker, filepath.Join(shared.data, "database", "data"))
	output, _ := grep.Output() // status 1 means that nothing was found
	assert.Empty(t, string(output), "nothing of it is in the database's files")
}

func TestHealthAndMetrics(t *testing.T) {
	for _, path := range []string{"/healthz", "/readyz"} {
		status, _, _ := send(t, "GET", path, "", nil)
		assert.Equal(t, 200, status, path)
	}
	importHarbour(t)
	auditOf(t, api.AuditStart{})
	metrics := ""
	require.Eventually(t, func() bool { // it counts every ten seconds
		_, _, metrics = send(t, "GET", "/metrics", "", nil)
		return strings.Contains(metrics, `nurvik_endpoints{verdict="faulty"} 51`)
	}, 30*time.Second, time.Second)
	for _, name := range []string{`nurvik_visits_total{outcome="answered"}`, "nurvik_visit_seconds_count",
		"nurvik_visit_connections_total", `nurvik_http_seconds_bucket{method="POST",route="/api/v1/deliveries/{id}/finish"`,
		"go_goroutines", `nurvik_endpoints{verdict="none"} 0`,
		`nurvik_findings{severity="fault"}`, `nurvik_leaf_days_left_bucket{le="365"}`, "nurvik_last_audit_failed 0",
		"nurvik_last_audit_timestamp_seconds", "nurvik_schedules_late 0", "nurvik_workers 1"} {
		assert.Contains(t, metrics, name)
	}
	for _, file := range []string{"nurvikd-alerts.yaml", "nurvikd-dashboard.json"} {
		text, err := os.ReadFile("../../deploy/" + file)
		require.NoError(t, err)
		for _, name := range regexp.MustCompile(`nurvik_[a-z_]+`).FindAllString(string(text), -1) {
			assert.Contains(t, metrics, "\n"+name, "what %s looks at is there", file)
		}
	}
	status, kind, document := send(t, "GET", "/api/openapi.json", "", nil)
	assert.Equal(t, 200, status)
	assert.Contains(t, kind, "json")
	assert.True(t, json.Valid([]byte(document)))
}

// TestEvents reads the stream by hand, as a browser does.
func TestEvents(t *testing.T) {
	importHarbour(t)
	a, err := shared.client.StartAudit(t.Context(), api.AuditStart{})
	require.NoError(t, err)
	response, err := http.Get(shared.address + api.Base + "/audits/" + jsonNumber(a.ID) + "/events")
	require.NoError(t, err)
	defer response.Body.Close()
	assert.Equal(t, "text/event-stream", response.Header.Get("Content-Type"))
	events := 0
	var last api.Audit
	for lines := bufio.NewScanner(response.Body); lines.Scan(); {
		if data, ok := strings.CutPrefix(lines.Text(), "data: "); ok {
			events++
			require.NoError(t, json.Unmarshal([]byte(data), &last))
		}
	}
	assert.GreaterOrEqual(t, events, 2)
	assert.Equal(t, "finished", last.State, "the stream ends with the audit")
}

func jsonNumber(n int64) string {
	data, _ := json.Marshal(n)
	return string(data)
}

func TestWhereItMayListen(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	for name, tt := range map[string]struct {
		listen string
		in     service.SignIn
		words  string
	}{
		"a taken port":         {listen: l.Addr().String(), words: "choose another with --listen"},
		"no address":           {listen: "north", words: "no address to listen on"},
		"others, without TLS":  {listen: "0.0.0.0:8410", words: "give --tls-certificate and --tls-key"},
		"half of TLS":          {listen: "127.0.0.1:0", in: service.SignIn{Key: "key.pem"}, words: "go together"},
		"no certificate there": {listen: "127.0.0.1:0", in: service.SignIn{Certificate: "/x", Key: "/y"}, words: "/x"},
		"others, and let in": {listen: "[::]:0", in: service.SignIn{Certificate: "/x", Key: "/y", LetIn: "x"},
			words: "let in"},
		"no URL": {listen: "127.0.0.1:0", in: service.SignIn{PublicURL: "nurvik"},
			words: "--public-url"},
		"a URL with a path": {listen: "127.0.0.1:0", in: service.SignIn{PublicURL: "https://x/y"},
			words: "--public-url"},
		"no network of a proxy": {listen: "127.0.0.1:0", in: service.SignIn{Proxies: []string{"all"}},
			words: "--trusted-proxy"},
	} {
		t.Run(name, func(t *testing.T) {
			err := service.Run(t.Context(), service.Config{Data: t.TempDir(), Listen: tt.listen, SignIn: tt.in,
				Log: slog.New(slog.DiscardHandler)}, func(string, string) { t.Error("it listens") })
			assert.ErrorContains(t, err, tt.words)
		})
	}
}
