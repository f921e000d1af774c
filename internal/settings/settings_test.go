package settings_test

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/spf13/pflag"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/internal/settings"
)

type values struct {
	listen  string
	port    uint16
	wait    time.Duration
	stores  []string
	verbose bool
}

func flags() (*pflag.FlagSet, *values) {
	v := &values{}
	f := pflag.NewFlagSet("t", pflag.ContinueOnError)
	f.StringVar(&v.listen, "listen", "default", "")
	f.Uint16Var(&v.port, "harbour-port", 1, "")
	f.DurationVar(&v.wait, "connect-timeout", time.Second, "")
	f.StringArrayVar(&v.stores, "trust", nil, "")
	f.BoolVar(&v.verbose, "verbose", false, "")
	return f, v
}

var known = []string{"listen", "harbour-port", "connect-timeout", "trust", "verbose", "of-another-command"}

func TestOrderOfSources(t *testing.T) {
	path := filepath.Join(t.TempDir(), "nurvik.yaml")
	require.NoError(t, os.WriteFile(path,
		[]byte("listen: file\nharbour-port: 2\nconnect-timeout: 7s\ntrust: [a, b]\nof-another-command: x\ntoken: "+
			"secret\n"), 0o600))
	t.Setenv("NURVIK_HARBOUR_PORT", "3")
	t.Setenv("NURVIK_LISTEN", "environment")
	t.Setenv("NURVIK_UNRELATED", "left alone")
	f, v := flags()
	require.NoError(t, f.Parse([]string{"--listen", "call"}))
	secrets, err := settings.Apply(f, known, path, true)
	require.NoError(t, err)
	assert.Equal(t, "call", v.listen, "the call comes first")
	assert.Equal(t, uint16(3), v.port, "then the environment")
	assert.Equal(t, 7*time.Second, v.wait, "then the file")
	assert.Equal(t, []string{"a", "b"}, v.stores)
	assert.False(t, v.verbose, "then the default")
	assert.Equal(t, "secret", secrets.Token)
}

func TestTokenFromTheEnvironment(t *testing.T) {
	t.Setenv("NURVIK_TOKEN", "from-environment")
	f, _ := flags()
	secrets, err := settings.Apply(f, known, "", false)
	require.NoError(t, err)
	assert.Equal(t, "from-environment", secrets.Token)
}

func TestErrors(t *testing.T) {
	directory := t.TempDir()
	write := func(name, text string) string {
		path := filepath.Join(directory, name)
		require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
		return path
	}
	tests := []struct {
		name, path string
		named      bool
		want       string
	}{
		{"a named file must exist", filepath.Join(directory, "none.yaml"), true, "no such file"},
		{"an unknown key", write("a.yaml", "lisen: x\n"), true, `the key "lisen" is not known`},
		{"a value of the wrong kind", write("b.yaml", "harbour-port: north\n"), true, "setting harbour-port"},
		{"no YAML", write("c.yaml", "listen: [\n"), true, "c.yaml"},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			f, _ := flags()
			_, err := settings.Apply(f, known, tt.path, tt.named)
			assert.ErrorContains(t, err, tt.want)
		})
	}
	f, _ := flags()
	_, err := settings.Apply(f, known, filepath.Join(directory, "none.yaml"), false)
	assert.NoError(t, err, "the default file need not exist")
}
