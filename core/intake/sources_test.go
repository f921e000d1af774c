package intake_test

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"context"
	"crypto/rand"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/youmark/pkcs8"
	pkcs12 "software.sslmate.com/src/go-pkcs12"

	"nurvik/core/facts"
	"nurvik/core/forge"
	"nurvik/core/intake"
	"nurvik/core/keystore"
	"nurvik/core/pbe"
	"nurvik/core/words"
)

const password = "Lodestar 7"

// entry is one file to be put into an archive or directory.
type entry struct{ name, data string }

func zipped(t testing.TB, entries ...entry) string {
	t.Helper()
	var out bytes.Buffer
	w := zip.NewWriter(&out)
	for _, e := range entries {
		f, err := w.Create(e.name)
		require.NoError(t, err)
		_, err = f.Write([]byte(e.data))
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	return out.String()
}

func tarred(t testing.TB, entries ...entry) string {
	t.Helper()
	var out bytes.Buffer
	w := tar.NewWriter(&out)
	for _, e := range entries {
		require.NoError(t, w.WriteHeader(&tar.Header{Name: e.name, Size: int64(len(e.data)), Mode: 0o600,
			Typeflag: tar.TypeReg}))
		_, err := w.Write([]byte(e.data))
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	return out.String()
}

func gzipped(t testing.TB, name, data string) string {
	t.Helper()
	var out bytes.Buffer
	w := gzip.NewWriter(&out)
	w.Name = name
	_, err := w.Write([]byte(data))
	require.NoError(t, err)
	require.NoError(t, w.Close())
	return out.String()
}

func TestArchives(t *testing.T) {
	a := newSet(t, "a")
	pa := block("CERTIFICATE", a.certificate)
	leaf, notes := entry{"certs/leaf.crt", pa}, entry{"README.txt", "read me"}
	inner := zipped(t, leaf, notes)
	zeros := strings.Repeat("\x00", 30<<20)
	tests := []struct {
		name, data string
		paths      []string
		defect     string
	}{
		{"zip", inner, []string{"offer/certs/leaf.crt"}, ""},
		{"tar", tarred(t, leaf, notes), []string{"offer/certs/leaf.crt"}, ""},
		{"tar.gz", gzipped(t, "", tarred(t, leaf)), []string{"offer/certs/leaf.crt"}, ""},
		{"gz", gzipped(t, "leaf.pem", pa), []string{"offer/leaf.pem"}, ""},
		{"zip in tar.gz", gzipped(t, "", tarred(t, entry{"in.zip", inner})), []string{"offer/in.zip/certs/leaf.crt"},
			""},
		{"three deep", zipped(t, entry{"one.zip", zipped(t, entry{"two.zip", inner}, leaf)}),
			[]string{"offer/one.zip/two.zip", "offer/one.zip/certs/leaf.crt"}, "no deeper one is opened"},
		{"expands too far", zipped(t, entry{"zeros", zeros}, leaf), []string{"offer/zeros", "offer/certs/leaf.crt"},
			"times its size"},
		{"gz that expands too far", gzipped(t, "", zeros), []string{"offer"}, "times its size"},
		{"cut off", inner[:len(inner)-20], []string{"offer"}, "the archive is damaged"},
		{"no good path", zipped(t, entry{"../../etc/leaf\x1b.crt", pa}), []string{"offer/../../etc/leaf\\x1b.crt"},
			""},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			files, err := new(intake.Reader).Read("offer", strings.NewReader(tt.data))
			if !errors.Is(err, intake.ErrTooLarge) {
				require.NoError(t, err)
			}
			var paths []string
			text := ""
			for _, f := range files {
				paths = append(paths, f.Path)
				for _, d := range f.Defects {
					text += words.Of(d.Reason)
				}
				if f.Path != "offer" {
					assert.Equal(t, "offer", f.Archive)
				}
			}
			assert.Equal(t, tt.paths, paths)
			assert.Contains(t, text, tt.defect)
			assert.Equal(t, tt.defect == "", text == "")
		})
	}
	t.Run("a broken entry hides no other", func(t *testing.T) {
		data := []byte(inner)
		data[60] ^= 0xff // in the compressed contents of the first entry
		files, err := new(intake.Reader).Read("offer", strings.NewReader(zipped(t, entry{"old.zip", string(data)},
			leaf)))
		require.NoError(t, err)
		assert.Equal(t, "offer/certs/leaf.crt", files[len(files)-1].Path)
		assert.Equal(t, facts.Damaged, files[0].Defects[0].Kind)
	})
	t.Run("too many entries", func(t *testing.T) {
		many := make([]entry, intake.MaxEntries+1)
		for i := range many {
			many[i] = entry{"x", ""}
		}
		files, err := new(intake.Reader).Read("offer", strings.NewReader(tarred(t, many...)))
		require.ErrorIs(t, err, intake.ErrTooLarge)
		assert.Contains(t, words.Of(files[len(files)-1].Defects[0].Reason), "more than 10000 entries")
	})
}

// TestEncryptedArchives opens archives that other programs wrote.
func TestEncryptedArchives(t *testing.T) {
	for name, certificates := range map[string]int{"trad.zip": 4, "stream.zip": 1, "aes128.zip": 1, "aes256.zip": 4} {
		for word, want := range map[string]string{password: "", "wrong": facts.WrongPassword, "": facts.NoPassword} {
			r := &intake.Reader{}
			if word != "" {
				r.Passwords = []string{"another", word}
			}
			files, err := r.ReadFile(filepath.Join("testdata/zip", name))
			require.NoError(t, err)
			found := 0
			for _, f := range files {
				found += len(f.Certificates())
				if want != "" {
					assert.Equal(t, want, f.Items[0].Locked, name)
				}
			}
			if want == "" {
				assert.Equal(t, certificates, found, name)
			}
		}
	}
}

func FuzzArchives(f *testing.F) {
	leaf := entry{"leaf.crt", block("CERTIFICATE", newSet(f, "a").certificate)}
	for _, seed := range []string{zipped(f, leaf, entry{"notes", "x"}), tarred(f, leaf),
		gzipped(f, "", tarred(f, leaf))} {
		f.Add([]byte(seed))
	}
	for _, name := range []string{"trad.zip", "stream.zip", "aes128.zip", "aes256.zip"} {
		data, err := os.ReadFile(filepath.Join("testdata/zip", name))
		require.NoError(f, err)
		f.Add(data)
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		r := &intake.Reader{Opener: keystore.Opener{Passwords: []string{password}, Budget: &pbe.Budget{Most: 50_000}}}
		files, err := r.Read("offer", bytes.NewReader(data))
		for _, file := range files {
			require.True(t, strings.HasPrefix(file.Path, "offer"))
		}
		if err != nil {
			require.True(t, errors.Is(err, intake.ErrNothing) || errors.Is(err, intake.ErrTooLarge), "%v", err)
		}
	})
}

func TestProtected(t *testing.T) {
	a, ca := newSet(t, "a"), newSet(t, "issuer")
	leaf, err := x509.ParseCertificate(a.certificate)
	require.NoError(t, err)
	issuer, err := x509.ParseCertificate(ca.certificate)
	require.NoError(t, err)
	//lint:ignore SA1019 old files are like this
	//nolint:staticcheck // old, and met
	legacy, err := x509.EncryptPEMBlock(rand.Reader, "EC PRIVATE KEY", a.sec1, []byte(password), x509.PEMCipherAES256)
	require.NoError(t, err)
	old := string(pem.EncodeToMemory(legacy))
	encrypted, err := pkcs8.MarshalPrivateKey(a.key, []byte(password), nil)
	require.NoError(t, err)
	p12, err := pkcs12.Modern.Encode(a.key, leaf, []*x509.Certificate{issuer}, password)
	require.NoError(t, err)
	jceks, err := forge.JCEKS(password, forge.JCEKSEntry{Alias: "tides", PKCS8: a.pkcs8,
		Chain: [][]byte{a.certificate}}, forge.JCEKSEntry{Alias: "skerry", Chain: [][]byte{ca.certificate}})
	require.NoError(t, err)
	p7, err := forge.CertificateSet(a.certificate, ca.certificate)
	require.NoError(t, err)
	lines := strings.Split(old, "\n")
	cut := strings.Join(append(lines[:len(lines)-3:len(lines)-3], "AAAA", lines[len(lines)-2], ""), "\n")
	tests := []struct {
		name, data string
		passwords  []string
		items      []string // kind, container, why it is locked
	}{
		{"old encryption of PEM", old, []string{password}, []string{"private-key  "}},
		{"old encryption, cut off", cut, []string{password}, []string{"private-key  damaged"}},
		{"old encryption of another kind", strings.Replace(old, "AES-256-CBC", "IDEA-CBC", 1), []string{password},
			[]string{"private-key  unsupported"}},
		{"encrypted PKCS#8", block("ENCRYPTED PRIVATE KEY", encrypted), []string{"x", password},
			[]string{"private-key  "}},
		{"no password", block("ENCRYPTED PRIVATE KEY", encrypted), nil, []string{"private-key  no-password"}},
		{"wrong password", block("ENCRYPTED PRIVATE KEY", encrypted), []string{"x"},
			[]string{"private-key  wrong-password"}},
		{"PKCS#12", string(p12), []string{password}, []string{"certificate PKCS#12 ", "certificate PKCS#12 ",
			"private-key PKCS#12 "}},
		{"PKCS#12 in PEM", block("PKCS12", p12), []string{password},
			[]string{"certificate PKCS#12 ", "certificate PKCS#12 ", "private-key PKCS#12 "}},
		{"PKCS#12 without password", string(p12), nil, []string{"private-key PKCS#12 no-password"}},
		{"JCEKS", string(jceks), []string{password}, []string{"private-key JCEKS ", "certificate JCEKS ",
			"certificate JCEKS "}},
		{"JCEKS without password", string(jceks), nil, []string{"private-key JCEKS no-password",
			"certificate JCEKS  unchecked", "certificate JCEKS  unchecked"}},
		{"PKCS#7", string(p7), nil, []string{"certificate PKCS#7 ", "certificate PKCS#7 "}},
		{"PKCS#7 in PEM", block("PKCS7", p7), nil, []string{"certificate PKCS#7 ", "certificate PKCS#7 "}},
	}
	for _, tt := range tests {
		t.Run(tt.name, func(t *testing.T) {
			handed := 0
			r := &intake.Reader{Opener: keystore.Opener{Passwords: tt.passwords},
				Private: func(_ *facts.File, der []byte) {
					handed++
					assert.Contains(t, string(der), string(a.raw(t)), "the key is handed over, to those who ask")
				}}
			file := r.Recognise("tides", []byte(tt.data))
			var items []string
			opened := 0
			for _, i := range file.Items {
				locked := i.Locked
				if i.Key != nil {
					locked = i.Key.Locked
					if locked == "" {
						opened++
						assert.Equal(t, a.spki, i.Key.SPKI)
						assert.Equal(t, "EC P-256", i.Key.Type)
					}
				}
				text := string(i.Kind) + " " + i.Container + " " + locked
				if i.Unchecked && i.Kind == facts.Certificate {
					text += " unchecked"
				}
				items = append(items, text)
			}
			assert.Equal(t, tt.items, items)
			assert.Equal(t, opened, handed)
			assert.Empty(t, file.Defects)
		})
	}
}

func TestWalk(t *testing.T) {
	directory := t.TempDir()
	write := func(name, data string) {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(directory, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(directory, name), []byte(data), 0o600))
	}
	pem := block("CERTIFICATE", newSet(t, "a").certificate)
	write("b/tides.pem", pem)
	write("a/notes.txt", "nothing here")
	write("offer.zip", zipped(t, entry{"leaf.crt", pem}))
	write("pilots.crt", pem)
	require.NoError(t, os.Symlink(filepath.Join(directory, "pilots.crt"), filepath.Join(directory, "link.pem")))
	require.NoError(t, os.Symlink(filepath.Join(directory, "gone"), filepath.Join(directory, "dangling.pem")))
	require.NoError(t, os.Symlink(directory, directory+"-link"))
	t.Cleanup(func() { os.Remove(directory + "-link") })
	for _, root := range []string{directory, directory + "-link"} {
		var found, failed []string
		err := new(intake.Reader).Walk(t.Context(), root, func(f facts.File) {
			relative, err := filepath.Rel(root, f.Path)
			require.NoError(t, err)
			found = append(found, relative)
		}, func(path string, err error) {
			failed = append(failed, filepath.Base(path))
			assert.ErrorIs(t, err, os.ErrNotExist)
		})
		require.NoError(t, err)
		assert.Equal(t, []string{"b/tides.pem", "offer.zip/leaf.crt", "pilots.crt"}, found)
		assert.Empty(t, failed, "a link that leads nowhere is nobody's file")
	}
	elsewhere := t.TempDir()
	require.NoError(t, os.Symlink(elsewhere, filepath.Join(directory, "elsewhere")))
	require.NoError(t, os.Symlink(filepath.Join(directory, "b"), filepath.Join(directory, "a", "inside")))
	var linked []string
	r := &intake.Reader{Linked: func(path, to string) { linked = append(linked, filepath.Base(path)+" "+to) }}
	require.NoError(t, r.Walk(t.Context(), directory, func(facts.File) {}, func(string, error) {}))
	assert.Equal(t, []string{"elsewhere " + elsewhere}, linked, "what is inside is read all the same")
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	assert.ErrorIs(t, new(intake.Reader).Walk(ctx, directory, func(facts.File) {}, func(string, error) {}),
		context.Canceled)
}

func TestAccess(t *testing.T) {
	directory := t.TempDir()
	for d := directory; d != "/tmp" && d != "/"; d = filepath.Dir(d) {
		require.NoError(t, os.Chmod(d, 0o755))
	}
	closed := filepath.Join(directory, "private")
	require.NoError(t, os.Mkdir(closed, 0o700))
	key := block("PRIVATE KEY", newSet(t, "a").pkcs8)
	open := filepath.Join(directory, "open.key")
	require.NoError(t, os.WriteFile(open, []byte(key), 0o600))
	require.NoError(t, os.Chmod(open, 0o644))
	barred := filepath.Join(closed, "barred.key")
	require.NoError(t, os.WriteFile(barred, []byte(key), 0o600))
	require.NoError(t, os.Chmod(barred, 0o640))
	link := filepath.Join(closed, "link.key")
	require.NoError(t, os.Symlink(open, link))
	r := new(intake.Reader)
	access := func(path string) facts.Access {
		files, err := r.ReadFile(path)
		require.NoError(t, err)
		require.NotNil(t, files[0].Access)
		return *files[0].Access
	}
	a, b, l := access(open), access(barred), access(link)
	assert.Equal(t, uint32(0o644), a.Mode)
	assert.Empty(t, a.Barred)
	assert.True(t, a.Listed)
	assert.NotEmpty(t, a.Owner)
	assert.Equal(t, uint32(0o640), b.Mode)
	assert.Equal(t, closed, b.Barred)
	assert.Equal(t, closed, b.BarredGroup)
	assert.False(t, b.Listed)
	assert.Equal(t, []string{link, open}, l.Links)
	assert.Equal(t, a.Inode, l.Inode, "a link is the same file")
	assert.Empty(t, l.Barred, "what counts is the way to the file, not to the link")
}
