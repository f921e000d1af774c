package judge

import (
	"strings"

	"nurvik/core/endpoint"
	"nurvik/core/serverconf"
)

// Edit is a change of a server's configuration that repairs what a finding is about.
type Edit struct {
	Server    string `yaml:"server" json:"server" doc:"Kind of server"`
	File      string `yaml:"-" json:"file,omitempty" doc:"Where the line is, where that is known"`
	Directive string `yaml:"directive" json:"directive,omitempty"`
	Value     string `yaml:"value" json:"value,omitempty" doc:"What the directive is to be set to"`
	Note      string `yaml:"note" json:"note,omitempty" doc:"What to know, or what to do where no single line does it"`
	Line      string `yaml:"line" json:"line,omitempty" doc:"The whole line, as this server writes it"`
	Diff      string `yaml:"-" json:"diff,omitempty" doc:"The change of the very file, as a unified diff"`

	change *serverconf.Change
}

// Change is the change of the file that the diff shows, nil where there is none.
func (e Edit) Change() *serverconf.Change { return e.change }

// Servers are those that the catalogue has edits for, in the order in which they are shown.
var Servers = []string{"nginx", "Apache", "HAProxy", "Postfix", "Dovecot", "slapd", "vsftpd", "Prosody", "PostgreSQL",
	"MariaDB"}

// finish writes the whole line.
func (e *Edit) finish() {
	if e.Line == "" && e.Directive != "" {
		e.Line = serverconf.Line(e.Server, e.Directive, e.Value)
	}
}

// Text is the edit in one line, for people.
func (e Edit) Text() string {
	switch {
	case e.Line == "":
		return e.Note
	case e.Note == "":
		return e.Line
	}
	return e.Line + "   (" + e.Note + ")"
}

// editsAt are those of the edits that are for servers which usually serve the endpoint's scheme.
func editsAt(target string, edits []Edit) []Edit {
	parsed, err := endpoint.Parse(target)
	if err != nil {
		return nil
	}
	var out []Edit
	for _, server := range serverconf.Serving(parsed.Scheme) {
		for _, e := range edits {
			if e.Server == server {
				out = append(out, e)
			}
		}
	}
	return out
}

// versionEdits say how each server is told to speak just these versions, which are TLS 1.2, TLS 1.3 or both.
func versionEdits(versions []string) []Edit {
	with12, with13 := false, false
	for _, v := range versions {
		with12, with13 = with12 || v == "TLS 1.2", with13 || v == "TLS 1.3"
	}
	if !with12 && !with13 {
		return nil
	}
	var edits []Edit
	for _, server := range Servers {
		kind, err := serverconf.Find(server)
		if err != nil || kind.TellVersions == nil {
			continue
		}
		if told, can := kind.TellVersions(serverconf.Wanted{TLS12: with12, TLS13: with13}); can {
			edits = append(edits, Edit{Server: kind.Name, Directive: told.Directive, Value: told.Value,
				Note: told.Note})
		}
	}
	for i := range edits {
		edits[i].finish()
	}
	return edits
}

// versionRemedy is the advice that goes with the edits for the versions.
func versionRemedy(off string, versions []string) string {
	text := "Allow only " + joined(versions) + " in the server's configuration"
	if off != "" {
		text = "Switch off " + off + " in the server's configuration and keep " + joined(versions)
	}
	return strings.TrimSpace(text) + ", then reload the server."
}
