package serverconf

import (
	"net/netip"
	"net/url"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"nurvik/core/ciphers"
	"nurvik/core/facts"
)

// Redacted is a configuration as it may leave the machine: what is kept is on a list, and everything else is left out.
// Facts name files, versions, cipher lists and host names, and no directive for passwords is read at all; here go the
// texts that stand behind what was not understood, and values that people may put anything into.
func Redacted(c facts.Configuration) facts.Configuration {
	out := c
	out.Sites = make([]facts.Site, len(c.Sites))
	for i, s := range c.Sites {
		s.Redirect, s.Transport = onlyHost(s.Redirect), ofWords(s.Transport, transportWord)
		for _, x := range []*facts.Setting{&s.Suites, &s.Suites13, &s.Groups, &s.Exclude} {
			*x = ofWords(*x, ciphers.Known)
		}
		for _, x := range []*facts.Setting{&s.OrderBy, &s.Clients, &s.Stapling} {
			*x = ofWords(*x, switchWord)
		}
		s.VersionsBy = slices.Clone(s.VersionsBy)
		for n := range s.VersionsBy {
			s.VersionsBy[n] = ofWords(s.VersionsBy[n], versionWord)
		}
		s.Listens = slices.Clone(s.Listens)
		for n := range s.Listens {
			s.Listens[n] = onlyAddress(s.Listens[n])
		}
		s.Names = slices.Clone(s.Names)
		for n := range s.Names {
			if !hostForm.MatchString(s.Names[n].Value) {
				s.Names[n].Value = hidden
			}
		}
		s.Secrets = withoutValues(s.Secrets)
		s.Obsolete, s.Contradicted = withoutValues(s.Obsolete), withoutValues(s.Contradicted)
		out.Sites[i] = s
	}
	out.Named = slices.Clone(c.Named)
	for i := range out.Named { // whoever writes a password where its file is meant
		if n := &out.Named[i]; n.Role == facts.RoleSecret && n.Missing {
			n.Path, n.Value, n.Near = hidden, hidden, ""
		}
	}
	out.Troubles = make([]facts.Trouble, len(c.Troubles))
	for i, t := range c.Troubles {
		out.Troubles[i] = redactedTrouble(t)
	}
	return out
}

// hostForm is what host names look like, with the wildcards that servers know.
var hostForm = regexp.MustCompile(`^[*.]{0,2}[A-Za-z0-9_-]+(\.[A-Za-z0-9_-]+)+\.?$`)

// ofWords leaves a value out that has any word which is not known.
func ofWords(x facts.Setting, known func(string) bool) facts.Setting {
	between := func(c rune) bool { return strings.ContainsRune(" \t,:;|()\"", c) }
	for word := range strings.FieldsFuncSeq(x.Value, between) {
		if !known(word) {
			x.Value = hidden
			return x
		}
	}
	return x
}

var versionForm = regexp.MustCompile(`(?i)^[<>=!+-]*(all|any|latest|auto|yes|no|on|off|sslv?[23]|sslv2hello|tlsv?1([._][0-3])?|3\.[0-4]|` +
	`(min|max)protocol|ssl-m(in|ax)-ver|no-(sslv3|tlsv1[0-3])|force-(sslv3|tlsv1[0-3])|no-tls-tickets)\+?$`)

// versionWord reports whether a word chooses versions. Tomcat writes several together, as "+TLSv1.2+TLSv1.3".
func versionWord(word string) bool {
	for part := range strings.SplitSeq(strings.TrimSuffix(strings.TrimPrefix(word, "+"), "+"), "+") {
		if !versionForm.MatchString(part) && !ciphers.Known(word) {
			return false
		}
	}
	return true
}

// switchWords switch something on or off, or say whether clients need a certificate.
var switchWords = strings.Fields("on off yes no true false enable disable enabled disabled none optional " +
	"optional_no_ca require required demand hard try allow never want peer server client cipher_server_preference " +
	"0 1 2 *")

func switchWord(word string) bool { return slices.Contains(switchWords, strings.ToLower(word)) }

var transportForm = regexp.MustCompile(`(?i)^(max-age=[0-9]+|includesubdomains|preload)$`)

func transportWord(word string) bool { return transportForm.MatchString(word) }

// onlyAddress keeps of a place the address and the port.
func onlyAddress(l facts.Listen) facts.Listen {
	if _, err := netip.ParseAddr(l.Address); err != nil && l.Address != "" && l.Address != "localhost" {
		l.Address = hidden
	}
	l.Value = strings.TrimPrefix(l.Address+":"+strconv.Itoa(int(l.Port)), ":")
	return l
}

// hidden stands for what stays on the machine.
const hidden = "…"

// onlyHost keeps of a redirect where it leads, without what stands behind.
func onlyHost(x facts.Setting) facts.Setting {
	if !x.Given() {
		return x
	}
	at := strings.Index(x.Value, "https://")
	if at < 0 {
		x.Value = hidden
		return x
	}
	address, _, _ := strings.Cut(x.Value[at:], " ")
	parsed, err := url.Parse(address)
	if err != nil || !hostForm.MatchString(parsed.Hostname()) {
		x.Value = "https://" + hidden
		return x
	}
	x.Value = "https://" + parsed.Hostname() + "/" + hidden
	return x
}

func withoutValues(list []facts.Setting) []facts.Setting {
	out := slices.Clone(list)
	for i := range out {
		out[i].Value = hidden
	}
	return out
}

// directiveForm is what names of directives look like.
var directiveForm = regexp.MustCompile(`^[A-Za-z][A-Za-z0-9_.\-]{0,60}$`)

// aboutTLS are words of which one stands in the name of every directive about TLS.
var aboutTLS = []string{"ssl", "tls", "cipher", "cert", "listen", "server_name", "bind", "protocol", "include"}

// safeArguments are how many arguments of a trouble are names, paths and limits of ours; what stands behind is text of
// the configuration.
var safeArguments = map[facts.Code]int{facts.ConfCycle: 1, facts.ConfNoInclude: 1, facts.ConfUnreadable: 2,
	facts.ConfTooManyFiles: 1, facts.ConfTooDeep: 1, facts.ConfTooLarge: 1, facts.ConfTooMuch: 1, facts.ConfLongLine: 1,
	facts.ConfMissingPart: 2, facts.ConfNoCertificate: 1}

func redactedTrouble(t facts.Trouble) facts.Trouble {
	args := slices.Clone(t.Reason.Args)
	for i := safeArguments[t.Reason.Code]; i < len(args); i++ {
		name := strings.ToLower(args[i])
		ofTLS := slices.ContainsFunc(aboutTLS, func(word string) bool { return strings.Contains(name, word) })
		if !ofTLS || !directiveForm.MatchString(args[i]) {
			args[i] = hidden
		}
	}
	t.Reason.Args = args
	return t
}
