package plain_test

import (
	"net/netip"
	"strings"
	"testing"
	"time"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"

	"nurvik/core/plain"
)

func TestText(t *testing.T) {
	tests := []struct{ name, in, want string }{
		{"clean text stays", "Tarnholm, Fähre №7 日本", "Tarnholm, Fähre №7 日本"},
		{"NUL", "h2\x00", `h2\x00`},
		{"an escape sequence", "\x1b]0;mine\x07", `\x1b]0;mine\x07`},
		{"line end and tab", "a\nb\tc", `a\x0ab\x09c`},
		{"a control character of eight bits", "a\u009bm", `a\u009bm`},
		{"the direction of writing", "txt.\u202efdp", `txt.\u202efdp`},
		{"isolates and invisible marks", "\u2066a\u2069\u200b\ufeff", `\u2066a\u2069\u200b\ufeff`},
		{"line and paragraph separators", "a\u2028b\u2029", `a\u2028b\u2029`},
		{"beyond the basic plane", "\U000e0041", `\U000e0041`},
		{"broken UTF-8", "a\xffb\xc3", `a\xffb\xc3`},
		{"the replacement character itself", "a\ufffdb", "a\ufffdb"},
		{"backslashes stay", `C:\x1b`, `C:\x1b`},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			assert.Equal(t, tt.want, plain.Text(tt.in))
			assert.Equal(t, tt.want, plain.Name(tt.in))
			assert.Equal(t, tt.in == tt.want, plain.Check(tt.in, false) == nil)
		})
	}
	assert.Equal(t, "a\nb\tc \\x1b", plain.Lines("a\nb\tc \x1b"))
	assert.NoError(t, plain.Check("a\nb\tc", true))
	assert.ErrorContains(t, plain.Check("a\nb", false), `\x0a`)
	long, other := strings.Repeat("ä", 900), strings.Repeat("ä", 901)
	assert.Len(t, []rune(plain.Name(long)), plain.MaxName)
	assert.LessOrEqual(t, len(plain.Text(long)), plain.MaxText)
	assert.NotEqual(t, plain.Text(long), plain.Text(other), "texts that begin alike stay apart")
}

func TestClean(t *testing.T) {
	type inner struct {
		Text string
		Next *inner
	}
	type all struct {
		Texts []string
		Map   map[string]string
		Inner inner
		Bytes []byte
		Count int
		Span  time.Duration
		At    time.Time
		Until *time.Time
		own   string
	}
	at := netip.MustParseAddrPort("[fe80::1%a\x00]:443")
	plain.Clean(&at)
	assert.Equal(t, "[fe80::1]:443", at.String())
	far := time.Date(10000, 1, 1, 0, 0, 0, 0, time.UTC)
	near := time.Date(9999, 12, 31, 23, 59, 59, 0, time.UTC)
	x := all{Texts: []string{"a\x00", "b"}, Map: map[string]string{"k\x1b": "v\x00", "k": "v"},
		Inner: inner{Next: &inner{Text: "\u202e"}}, Bytes: []byte{0, 0x1b}, Count: -5, Span: -5, At: far, Until: &near,
		own: "\x00"}
	plain.Clean(&x)
	assert.Equal(t, all{Texts: []string{`a\x00`, "b"}, Map: map[string]string{`k\x1b`: `v\x00`, "k": "v"},
		Inner: inner{Next: &inner{Text: `\u202e`}}, Bytes: []byte{0, 0x1b}, Span: -5, Until: &near, own: "\x00"}, x)
	assert.False(t, plain.Time(time.Date(0, 1, 1, 0, 0, 0, 0, time.FixedZone("", 3600))), "UTC decides")
	shared := "clean"
	y := struct{ Text *string }{&shared}
	assert.Zero(t, testing.AllocsPerRun(10, func() { plain.Clean(&y) }), "what is clean is only read")
}

func FuzzText(f *testing.F) {
	for _, seed := range []string{"", "tides", "\x00\x1b\u202e\xff", strings.Repeat("\xe4", 1001), "…"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, s string) {
		for name, clean := range map[string]func(string) string{"text": plain.Text, "lines": plain.Lines,
			"name": plain.Name} {
			once := clean(s)
			assert.True(t, utf8.ValidString(once), name)
			assert.NoError(t, plain.Check(once, name == "lines"))
			assert.Equal(t, once, clean(once), "%s: cleaned twice is cleaned once", name)
		}
	})
}
