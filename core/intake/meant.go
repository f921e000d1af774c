package intake

import (
	"bytes"
	"path/filepath"
	"slices"
	"strings"

	"nurvik/core/facts"
)

// meantEndings are those of files that are for certificates, keys and their like.
var meantEndings = map[string]bool{
	".pem": true, ".crt": true, ".cer": true, ".cert": true, ".der": true, ".key": true, ".csr": true, ".req": true,
	".crl": true,
	".p12": true, ".pfx": true, ".p7b": true, ".p7c": true, ".jks": true, ".jceks": true, ".keystore": true,
	".truststore": true,
}

// meantDirectories are the names of directories in which such files are kept.
var meantDirectories = map[string]bool{"ssl": true, "tls": true, "pki": true, "certs": true, "certificates": true,
	"private": true}

// meant reports whether the name of a file, or the directory that it is in,
// says that it is for certificates or keys. Other files may hold some too, but
// what is wrong with them is nobody's concern until they do.
func meant(path string) bool {
	name := strings.ToLower(filepath.Base(path))
	if meantEndings[filepath.Ext(name)] {
		return true
	}
	return meantDirectories[strings.ToLower(filepath.Base(filepath.Dir(path)))] && !strings.Contains(name, ".")
}

// worthTelling leaves of what a walk met what is worth telling: material, and
// defects where material was recognised or is meant. It reports whether
// anything is left.
func worthTelling(f *facts.File) bool {
	recognised := false
	for _, item := range f.Items {
		// Of an encrypted entry in an archive nothing is known but its name.
		recognised = recognised || item.Container != "zip" || meant(f.Path)
	}
	if meant(f.Path) {
		return len(f.Items)+len(f.Defects) > 0
	}
	if slices.ContainsFunc(f.Defects, func(d facts.Defect) bool {
		return d.Reason.Code == facts.NestedTooDeep || d.Kind == facts.ReadingFailed
	}) {
		return true // it may hold anything, and nobody has looked
	}
	if recognised {
		f.Defects = slices.DeleteFunc(f.Defects, func(d facts.Defect) bool { return !ofMaterial(f, d) })
	}
	return recognised
}

// ofMaterial reports whether the defect is one of a block in which material
// was recognised, and not of an example in a text that cannot be read.
func ofMaterial(f *facts.File, d facts.Defect) bool {
	near, recognised := -1, true
	for _, item := range f.Items {
		if item.Offset <= d.Offset && item.Offset > near {
			near = item.Offset
		}
	}
	for _, other := range f.Defects {
		if other.Kind == facts.Damaged && other.Offset <= d.Offset && other.Offset > near {
			near, recognised = other.Offset, false
		}
	}
	return recognised && d.Kind != facts.Damaged
}

// headSize is how much of a file tells whether it is a program, in bytes.
const headSize = 512

// program reports whether the bytes begin as a program, a library, a picture, a
// sound, a font or a translation does. Such hold the text of PEM labels, and
// certificates for their own tests, or nothing of ours at all.
func program(data []byte) bool {
	for _, magic := range []string{"\x7fELF", "MZ", "\xca\xfe\xba\xbe", "\xfe\xed\xfa", "\xcf\xfa\xed\xfe", "!<arch>\n",
		"\x00asm", "\x89PNG\r\n", "\xff\xd8\xff", "GIF8", "RIFF", "OggS", "wOFF", "wOF2", "\xde\x12\x04\x95"} {
		if bytes.HasPrefix(data, []byte(magic)) {
			return true
		}
	}
	return false
}

// documentation reports whether a path is a compressed page of a manual, which
// distributions put in tens of thousands on every machine: what looks like
// material in one is an example.
func documentation(path string) bool {
	if !strings.HasSuffix(path, ".gz") {
		return false
	}
	for _, place := range []string{"/share/man/", "/share/doc/", "/share/info/"} {
		if strings.Contains(path, place) {
			return true
		}
	}
	return false
}

// foreign says what other programs' keys a label is of, "" for none.
func foreign(label string) string {
	switch {
	case strings.HasPrefix(label, "PGP "):
		return "OpenPGP"
	case strings.HasPrefix(label, "OPENSSH "), strings.HasPrefix(label, "SSH2 "):
		return "SSH"
	}
	return ""
}

// foreignText says what other programs' keys a text without blocks is, "" for none: the public keys of SSH (RFC
// 4253, 6.6), one a line, or the key file of an SSH client.
func foreignText(data []byte) string {
	if bytes.HasPrefix(data, []byte("PuTTY-User-Key-File-")) {
		return "SSH"
	}
	for line := range bytes.Lines(data[:min(len(data), 1<<16)]) {
		fields := bytes.Fields(line)
		if len(fields) == 0 || fields[0][0] == '#' {
			continue
		}
		for i := range min(len(fields)-1, 4) { // options and host names may stand in front
			kind, _, _ := strings.Cut(string(fields[i]), "-")
			if (kind == "ssh" || kind == "ecdsa" || kind == "sk") && bytes.HasPrefix(fields[i+1], []byte("AAAA")) {
				return "SSH"
			}
		}
		return ""
	}
	return ""
}

// resembles reports whether a label is one that is in use for material, or may
// be meant for one: misspelt, or of a kind that is not known here.
func resembles(label string) bool {
	if labels[strings.TrimSpace(label)] != isNothing {
		return true
	}
	upper := strings.ToUpper(label)
	for _, word := range []string{"CERT", "PRIVATE", "PUBLIC KEY", "CRL", "PKCS", "REQUEST", "PARAMETERS"} {
		if strings.Contains(upper, word) {
			return true
		}
	}
	return false
}
