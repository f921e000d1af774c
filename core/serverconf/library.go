package serverconf

import (
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"nurvik/core/ciphers"
	"nurvik/core/facts"
)

// The libraries.
const (
	OpenSSL = "OpenSSL"
	GnuTLS  = "GnuTLS"
	Java    = "Java"
)

// library is the TLS library that servers of this machine use, with what the machine sets for it. One that is not
// found is taken for Debian's.
func (m *Machine) library(name string) facts.Library {
	switch name {
	case GnuTLS:
		return m.gnutls()
	case Java:
		return m.java()
	}
	return m.openssl()
}

// opensslConf is where the library's own configuration lies on Debian.
const opensslConf = "/etc/ssl/openssl.cnf"

// openssl reads the section for all programs (config(5), "SSL CONFIGURATION").
func (m *Machine) openssl() facts.Library {
	l := facts.Library{Name: OpenSSL, Version: "3.0", Level: ciphers.Debian.Level}
	for _, p := range []string{"libssl3t64", "libssl3", "libssl1.1"} {
		if version := m.Package(p); version != "" {
			l.Version = version
			break
		}
	}
	if !atLeast(l.Version, 3) {
		l.Level = 1
	}
	data, err := m.read(m.At(opensslConf))
	if err != nil {
		return l
	}
	sections := iniSections(string(data))
	first := sections[""]
	system := sections[sections[sections[first["openssl_conf"]]["ssl_conf"]]["system_default"]]
	l.Versions = between(opensslVersions[system["minprotocol"]], opensslVersions[system["maxprotocol"]])
	if system["minprotocol"] == "" && system["maxprotocol"] == "" {
		l.Versions = nil
	}
	if list := system["cipherstring"]; list != "" {
		l.List = list
		if a, err := ciphers.Debian.List(list); err == nil && a.Level != ciphers.NoLevel {
			l.Level = a.Level
		}
	}
	return l
}

// iniSections reads sections of names and values, names in lower case.
func iniSections(text string) map[string]map[string]string {
	out := map[string]map[string]string{"": {}}
	section := ""
	for line := range strings.Lines(text) {
		line, _, _ = strings.Cut(line, "#")
		line = strings.TrimSpace(line)
		if strings.HasPrefix(line, "[") && strings.HasSuffix(line, "]") {
			section = strings.TrimSpace(line[1 : len(line)-1])
			if out[section] == nil {
				out[section] = map[string]string{}
			}
			continue
		}
		if name, value, ok := strings.Cut(line, "="); ok {
			name = strings.ToLower(strings.TrimSpace(name))
			if _, after, dotted := strings.Cut(name, "."); dotted {
				name = after
			}
			out[section][name] = strings.TrimSpace(value)
		}
	}
	return out
}

// gnutls reads the library's system-wide configuration.
func (m *Machine) gnutls() facts.Library {
	l := facts.Library{Name: GnuTLS, Version: m.Package("libgnutls30t64", "libgnutls30")}
	data, err := m.read(m.At("/etc/gnutls/config"))
	if err != nil {
		return l
	}
	sections := iniSections(string(data))
	for name, text := range sections["priorities"] {
		if l.System == nil {
			l.System = map[string]string{}
		}
		l.System[strings.ToUpper(name)] = text
	}
	l.List = sections["overrides"]["default-priority-string"]
	return l
}

// java reads what the runtimes of this machine disable; of several the one that disables least counts.
func (m *Machine) java() facts.Library {
	l := facts.Library{Name: Java, Disabled: ciphers.JavaDefault}
	found := ""
	for _, pattern := range []string{"/etc/java-*-openjdk/security/java.security",
		"/usr/lib/jvm/*/conf/security/java.security"} {
		paths, _ := m.list(m.At(pattern))
		for _, path := range paths {
			data, err := m.read(path)
			if err != nil {
				continue
			}
			text, ok := property(string(data), "jdk.tls.disabledAlgorithms")
			if ok && (found == "" || strings.Count(text, ",") < strings.Count(found, ",")) {
				found = text
				l.Version = javaRelease(path)
			}
		}
		if found != "" {
			l.Disabled = found
			return l
		}
	}
	return l
}

// javaRelease reads the number out of a path such as /etc/java-17-openjdk/security/java.security.
func javaRelease(path string) string {
	for part := range strings.SplitSeq(filepath.ToSlash(path), "/") {
		for word := range strings.SplitSeq(part, "-") {
			if _, err := strconv.Atoi(word); err == nil && strings.Contains(part, "java") {
				return word
			}
		}
	}
	return ""
}

// property is a value of a properties file, with its continuation lines.
func property(text, name string) (string, bool) {
	lines := slices.Collect(strings.Lines(text))
	for i := 0; i < len(lines); i++ {
		key, value, ok := strings.Cut(strings.TrimSpace(lines[i]), "=")
		if !ok || strings.TrimSpace(key) != name {
			continue
		}
		value = strings.TrimSpace(value)
		for strings.HasSuffix(value, "\\") && i+1 < len(lines) {
			i++
			value = strings.TrimSuffix(value, "\\") + " " + strings.TrimSpace(lines[i])
		}
		return strings.Join(strings.Fields(value), " "), true
	}
	return "", false
}
