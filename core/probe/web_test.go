package probe_test

import (
	"bytes"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/net/http2"
	"golang.org/x/net/http2/hpack"

	"nurvik/core/probe"
)

// headers is an answer of HTTP/2 with the status.
func headers(t testing.TB, status string) []byte {
	t.Helper()
	var block, out bytes.Buffer
	require.NoError(t, hpack.NewEncoder(&block).WriteField(hpack.HeaderField{Name: ":status", Value: status}))
	f := http2.NewFramer(&out, nil)
	require.NoError(t, f.WriteSettings())
	require.NoError(t, f.WriteHeaders(http2.HeadersFrameParam{StreamID: 1, BlockFragment: block.Bytes(),
		EndHeaders: true}))
	return out.Bytes()
}

func TestAnswersOfTheWeb(t *testing.T) {
	for _, tt := range []struct {
		name   string
		answer []byte
		two    bool
		status int // 0 for none
	}{
		{"HTTP/1.1", []byte("HTTP/1.1 204 No Content\r\n\r\n"), false, 204},
		{"no HTTP", []byte("220 post\r\n"), false, 0},
		{"HTTP/2", headers(t, "404"), true, 404},
		{"more is to come", append(headers(t, "103"), headers(t, "200")...), true, 200},
		{"a status that is none", headers(t, "tide"), true, 0},
		{"cut off", headers(t, "200")[:12], true, 0},
		{"settings without end", bytes.Repeat(headers(t, "103")[:9], 100), true, 0},
	} {
		status, err := probe.Front(scriptedConn{in: bytes.NewReader(tt.answer)}, tt.two)
		assert.Equal(t, tt.status == 0, err != nil, "%s: %v", tt.name, err)
		if err == nil {
			assert.Equal(t, tt.status, status, tt.name)
		}
	}
}

// FuzzAnswersOfTheWeb: no answer may crash or be read without end.
func FuzzAnswersOfTheWeb(f *testing.F) {
	f.Add([]byte("HTTP/1.1 200 OK\r\nStrict-Transport-Security: max-age=1\r\n\r\n"), false)
	f.Add(headers(f, "200"), true)
	f.Fuzz(func(_ *testing.T, answer []byte, two bool) {
		_, _ = probe.Front(scriptedConn{in: bytes.NewReader(answer)}, two) // whatever it says of it
	})
}
