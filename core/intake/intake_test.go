package intake_test

import (
	"bytes"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"encoding/pem"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nurvik/core/facts"
	"nurvik/core/forge"
	"nurvik/core/intake"
)

func certificate(t testing.TB, name string) []byte {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	spki, err := forge.PublicInfo(key)
	require.NoError(t, err)
	der, err := forge.Issue(nil, key, forge.Template{Name: name, SPKI: spki, From: time.Unix(1.7e9, 0), Until: time.Unix(1.8e9, 0)})
	require.NoError(t, err)
	return der
}

func block(label string, der []byte) string {
	return string(pem.EncodeToMemory(&pem.Block{Type: label, Bytes: der}))
}

func TestRecognise(t *testing.T) {
	a, b := certificate(t, "a"), certificate(t, "b")
	pa, pb := block("CERTIFICATE", a), block("CERTIFICATE", b)
	tests := []struct {
		name    string
		data    string
		lines   []int // of the certificates found; 0 for DER
		damaged []string
		others  []string
	}{
		{"one PEM block", pa, []int{1}, nil, nil},
		{"two, with text around", "the tide office\n" + pa + "and the pilots\n" + pb, []int{2, 2 + strings.Count(pa, "\n") + 1}, nil, nil},
		{"Windows line ends", strings.ReplaceAll(pa, "\n", "\r\n"), []int{1}, nil, nil},
		{"old-Mac line ends", strings.ReplaceAll(pa, "\n", "\r"), []int{1}, nil, nil},
		{"missing line end between two blocks", strings.TrimSuffix(pa, "\n") + pb, []int{1, strings.Count(pa, "\n")}, nil, nil},
		{"byte-order mark", "\xef\xbb\xbf" + pa, []int{1}, nil, nil},
		{"indented", "  " + strings.ReplaceAll(pa, "\n", "\n  "), []int{1}, nil, nil},
		{"older label", block("X509 CERTIFICATE", a), []int{1}, nil, nil},
		{"a key beside it", block("EC PRIVATE KEY", []byte{1, 2}) + pa, []int{4}, nil, []string{"EC PRIVATE KEY"}},
		{"DER", string(a), []int{0}, nil, nil},
		{"DER after DER", string(a) + string(b), []int{0, 0}, nil, nil},
		{"cut off, another behind it", pa[:len(pa)/2] + "\n" + pb, []int{strings.Count(pa[:len(pa)/2], "\n") + 2}, []string{"no END line"}, nil},
		{"broken base64", strings.Replace(pa, "MII", "M!I", 1), nil, []string{"base64 is damaged"}, nil},
		{"a label that lies", block("CERTIFICATE", []byte("pilots")), nil, []string{"begins with 0x70"}, nil},
		{"DER that is no certificate", string([]byte{0x30, 3, 2, 1, 5}), nil, nil, nil},
		{"nothing", "", nil, nil, nil},
		{"text", "-----BEGIN of the season\n", nil, nil, nil},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			file := intake.Recognise([]byte(tt.data))
			var lines []int
			for _, c := range file.Certificates {
				lines = append(lines, c.Line)
				assert.True(t, bytes.Equal(c.DER, a) || bytes.Equal(c.DER, b))
			}
			assert.Equal(t, tt.lines, lines)
			require.Len(t, file.Damaged, len(tt.damaged))
			for i, d := range file.Damaged {
				assert.Contains(t, d.Reason, tt.damaged[i])
			}
			var others []string
			for _, o := range file.Others {
				others = append(others, o.Label)
			}
			assert.Equal(t, tt.others, others)
		})
	}
}

func TestOffsetsPointAtTheBlocks(t *testing.T) {
	data := []byte("first\n" + block("CERTIFICATE", certificate(t, "a")) + block("CERTIFICATE", certificate(t, "b")))
	for _, c := range intake.Recognise(data).Certificates {
		assert.True(t, bytes.HasPrefix(data[c.Offset:], []byte("-----BEGIN CERTIFICATE-----")))
	}
}

func TestReadFile(t *testing.T) {
	directory := t.TempDir()
	empty := filepath.Join(directory, "empty.pem")
	require.NoError(t, os.WriteFile(empty, nil, 0o600))
	_, err := intake.ReadFile(empty)
	assert.ErrorIs(t, err, intake.ErrNothing)
	assert.ErrorContains(t, err, empty)
	_, err = intake.ReadFile(filepath.Join(directory, "none.pem"))
	assert.ErrorIs(t, err, os.ErrNotExist)
	large := filepath.Join(directory, "large.pem")
	require.NoError(t, os.WriteFile(large, nil, 0o600))
	require.NoError(t, os.Truncate(large, intake.MaxFileSize+1))
	_, err = intake.ReadFile(large)
	assert.ErrorIs(t, err, intake.ErrTooLarge)
}

func TestWalk(t *testing.T) {
	directory := t.TempDir()
	write := func(name, data string) {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(directory, name)), 0o700))
		require.NoError(t, os.WriteFile(filepath.Join(directory, name), []byte(data), 0o600))
	}
	pem := block("CERTIFICATE", certificate(t, "a"))
	write("b/tides.pem", pem)
	write("a/notes.txt", "nothing here")
	write("pilots.crt", pem)
	require.NoError(t, os.Symlink(filepath.Join(directory, "pilots.crt"), filepath.Join(directory, "link.pem")))
	require.NoError(t, os.Symlink(filepath.Join(directory, "gone"), filepath.Join(directory, "dangling.pem")))
	var found, failed []string
	require.NoError(t, intake.Walk(directory, func(f facts.File) { found = append(found, filepath.Base(f.Path)) },
		func(path string, err error) {
			failed = append(failed, filepath.Base(path))
			assert.True(t, errors.Is(err, os.ErrNotExist))
		}))
	assert.Equal(t, []string{"tides.pem", "link.pem", "pilots.crt"}, found)
	assert.Equal(t, []string{"dangling.pem"}, failed)
}

func FuzzRecognise(f *testing.F) {
	pem := block("CERTIFICATE", certificate(f, "a"))
	f.Add([]byte(pem))
	f.Add([]byte(pem[:200] + pem))
	f.Add(certificate(f, "b"))
	f.Add([]byte("-----BEGIN -----END -----BEGIN CERTIFICATE-----"))
	f.Fuzz(func(t *testing.T, data []byte) {
		file := intake.Recognise(data)
		for _, c := range file.Certificates {
			require.True(t, c.Offset >= 0 && c.Offset < len(data))
			require.NotEmpty(t, c.DER)
		}
		for _, d := range file.Damaged {
			require.NotEmpty(t, d.Reason)
		}
	})
}
