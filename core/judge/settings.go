package judge

import "nurvik/core/endpoint"

// Setting is a line of configuration that repairs what a finding is about.
type Setting struct {
	Server string `json:"server"`
	Line   string `json:"line"`
}

// servers that usually serve a scheme, the common ones first.
var servers = map[string][]string{
	"https": {"nginx", "Apache", "HAProxy"},
	"smtp":  {"Postfix"}, "smtps": {"Postfix"}, "submission": {"Postfix"}, "lmtp": {"Dovecot"},
	"imap": {"Dovecot"}, "imaps": {"Dovecot"}, "pop3": {"Dovecot"}, "pop3s": {"Dovecot"}, "sieve": {"Dovecot"},
	"ldap": {"slapd"}, "ldaps": {"slapd"}, "ftp": {"vsftpd"}, "ftps": {"vsftpd"},
	"xmpp": {"Prosody"}, "xmpps": {"Prosody"}, "xmpp-server": {"Prosody"},
	"postgres": {"PostgreSQL"}, "mysql": {"MariaDB"},
}

// Servers are those that the catalogue has lines for, in the order in which they are shown.
var Servers = []string{"nginx", "Apache", "HAProxy", "Postfix", "Dovecot", "slapd", "vsftpd", "Prosody", "PostgreSQL", "MariaDB"}

// Lines are the lines of the entry for the servers named, in their order.
func (e Entry) Lines(of []string) []Setting {
	var out []Setting
	for _, server := range of {
		if line := e.Settings[server]; line != "" {
			out = append(out, Setting{server, line})
		}
	}
	return out
}

// SettingsFor are the lines that repair what the code is about at an endpoint,
// for the servers that usually serve its scheme.
func SettingsFor(code, target string) []Setting {
	e, err := endpoint.Parse(target)
	if err != nil {
		return nil
	}
	return byCode()[code].Lines(servers[e.Scheme])
}

// noLines is for findings that the catalogue's lines would not repair, because a
// policy's own list is what they depart from.
var noLines = []Setting{}

// withSettings gives each finding about an endpoint its lines.
func withSettings(target string, findings []Finding) []Finding {
	for i, f := range findings {
		if f.Settings == nil {
			findings[i].Settings = SettingsFor(f.Code, target)
		}
	}
	return findings
}
