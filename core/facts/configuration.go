package facts

// Configuration is what one server is told by its configuration: the main file
// with everything that it includes.
type Configuration struct {
	Schema   string      `json:"schema"`
	Server   string      `json:"server" doc:"Kind of server, such as nginx"`
	Path     string      `json:"path" doc:"The main file"`
	Root     string      `json:"root,omitempty" doc:"Where the machine's file system is mounted; empty for this machine's own"`
	Release  string      `json:"release,omitempty" doc:"Version of the server's package, where it is known"`
	Library  Library     `json:"library" doc:"The TLS library that it uses"`
	Files    []string    `json:"files" doc:"Every file that was read, in the order of reading"`
	Sites    []Site      `json:"sites" doc:"Each place that listens or is told something of TLS"`
	Named    []NamedFile `json:"named,omitempty" doc:"The files that it names for TLS, and what was found there"`
	Troubles []Trouble   `json:"troubles,omitempty" doc:"What the server would refuse, and what was not understood"`

	lines map[string][]string // of the files that were read
}

// Library is a TLS library with what the machine's own configuration sets for it.
type Library struct {
	Name     string            `json:"name" enum:"OpenSSL,GnuTLS,Java"`
	Version  string            `json:"version,omitempty" doc:"Where it is known, such as 3.0"`
	Level    int               `json:"level,omitempty" doc:"Of OpenSSL: the security level where a cipher list names none"`
	Weak     bool              `json:"weak,omitempty" doc:"Of OpenSSL: built with weak ciphers"`
	Disabled string            `json:"disabled,omitempty" doc:"Of Java: jdk.tls.disabledAlgorithms"`
	System   map[string]string `json:"system,omitempty" doc:"Of GnuTLS: priority strings by their names"`
	Versions []string          `json:"versions,omitempty" doc:"TLS versions that the machine's configuration allows; none where it says nothing"`
	List     string            `json:"list,omitempty" doc:"The cipher list that the machine's configuration sets"`
}

// Line is a line of a file.
type Line struct {
	File string `json:"file,omitempty"`
	Line int    `json:"line,omitempty" doc:"From 1"`
}

// Setting is a value that a configuration sets, or that holds where it sets none.
type Setting struct {
	Directive string `json:"directive,omitempty" doc:"As it is written, or would be"`
	Value     string `json:"value" doc:"With variables put in"`
	Line
	Default bool `json:"default,omitempty" doc:"It is not written: the server's own default"`
}

// Given reports whether there is a setting at all.
func (s Setting) Given() bool { return s.Directive != "" }

// Site is one place that listens, or several that are told the same.
type Site struct {
	Line
	Last        int        `json:"last,omitempty" doc:"The last line of its block"`
	Listens     []Listen   `json:"listens,omitempty"`
	Names       []Setting  `json:"names,omitempty" doc:"Host names that it serves"`
	Off         bool       `json:"off,omitempty" doc:"It is configured and does no TLS"`
	Identities  []Identity `json:"identities,omitempty" doc:"The certificates that it serves, with their keys"`
	Authorities []Setting  `json:"authorities,omitempty" doc:"Files of CA certificates, for clients' certificates"`
	Secrets     []Setting  `json:"secrets,omitempty" doc:"Files that hold passwords of keys"`

	Versions     []string  `json:"versions,omitempty" doc:"TLS versions that it is told to speak"`
	VersionsBy   []Setting `json:"versions_by,omitempty" doc:"What says so"`
	Suites       Setting   `json:"suites,omitzero" doc:"Cipher list of TLS 1.2 and older, or the priority string"`
	Exclude      Setting   `json:"exclude,omitzero" doc:"Of Postfix: what takes cipher suites out of the list"`
	Suites13     Setting   `json:"suites13,omitzero" doc:"Cipher suites of TLS 1.3"`
	Groups       Setting   `json:"groups,omitzero"`
	Order        Order     `json:"order,omitempty" enum:",server,client"`
	OrderBy      Setting   `json:"order_by,omitzero"`
	FiniteField  Setting   `json:"finite_field,omitzero" doc:"Parameters for DHE; their file, or how they are chosen"`
	NoDHE        bool      `json:"no_dhe,omitempty" doc:"Without parameters it does no DHE"`
	Clients      Setting   `json:"clients,omitzero" doc:"Whether client certificates are asked for"`
	Stapling     Setting   `json:"stapling,omitzero"`
	Transport    Setting   `json:"transport,omitzero" doc:"Strict transport security"`
	Redirect     Setting   `json:"redirect,omitzero" doc:"Of a place without TLS: where it sends clients"`
	Root         Setting   `json:"root,omitzero" doc:"Of a web server: the directory that it publishes"`
	Obsolete     []Setting `json:"obsolete,omitempty" doc:"Directives that this server no longer has"`
	Contradicted []Setting `json:"contradicted,omitempty" doc:"Settings that a later one makes void, each with the later one behind it"`
}

// TLS reports whether the site serves TLS.
func (s Site) TLS() bool { return !s.Off && len(s.Identities) > 0 }

// Listen is an address and port that a site listens at.
type Listen struct {
	Setting
	Address     string `json:"address,omitempty" doc:"Empty for all"`
	Port        uint16 `json:"port,omitempty"`
	Scheme      string `json:"scheme" doc:"What is spoken there, as schemes of endpoints: https, smtp, …; http where nothing is protected"`
	DefaultSite bool   `json:"default_site,omitempty" doc:"Clients without a known name are served this site"`
	Socket      bool   `json:"socket,omitempty" doc:"A socket of this machine, which no network reaches"`
}

// Identity is a certificate with its key, as they are configured.
type Identity struct {
	Certificate Setting `json:"certificate"`
	Key         Setting `json:"key,omitzero" doc:"Where it is not named, the certificate's file holds it"`
	Chain       Setting `json:"chain,omitzero" doc:"A file of intermediates of its own"`
	Alias       string  `json:"alias,omitempty" doc:"Of a keystore"`
}

// NamedFile is a file that a configuration names, and what was found there.
type NamedFile struct {
	Setting
	Path      string   `json:"path" doc:"As the server opens it"`
	Role      FileRole `json:"role" enum:"certificate,key,chain,authorities,secret,parameters"`
	Missing   bool     `json:"missing,omitempty"`
	Directory bool     `json:"directory,omitempty"`
	Failure   string   `json:"failure,omitempty" doc:"Why it cannot be read"`
	Near      string   `json:"near,omitempty" doc:"Of a missing file: one beside it whose name differs by a slip"`
	User      string   `json:"user,omitempty" doc:"As whom the server opens it"`
	Refused   string   `json:"refused,omitempty" doc:"The file or directory that this user may not open"`
	Device    uint64   `json:"device,omitempty"`
	Inode     uint64   `json:"inode,omitempty"`
}

// FileRole is what a server wants of a file that its configuration names.
type FileRole string

// The roles.
const (
	RoleCertificate FileRole = "certificate"
	RoleKey         FileRole = "key"
	RoleChain       FileRole = "chain"
	RoleAuthorities FileRole = "authorities"
	RoleSecret      FileRole = "secret"
	RoleParameters  FileRole = "parameters"
)

// TroubleKind tells what is wrong with a configuration.
type TroubleKind string

// The troubles.
const (
	Broken        TroubleKind = "broken"         // the server itself would refuse it
	NotUnderstood TroubleKind = "not-understood" // it was passed over, and may touch TLS
	PassedOver    TroubleKind = "passed-over"    // it was passed over, and does not touch TLS
	LimitReached  TroubleKind = "limit-reached"  // a limit of reading
)

// Trouble is something in a configuration that is wrong or was not understood.
type Trouble struct {
	Kind TroubleKind `json:"kind" enum:"broken,not-understood,passed-over,limit-reached"`
	Line
	Reason Reason `json:"reason"`
}

// Remember keeps the lines of a file that was read. They are no part of the facts: a
// remedy that is shown on the machine itself is made with them.
func (c *Configuration) Remember(file string, lines []string) {
	if c.lines == nil {
		c.lines = map[string][]string{}
	}
	c.lines[file] = lines
}

// Lines are the lines of a file that was read, nil where they were not kept.
func (c *Configuration) Lines(file string) []string { return c.lines[file] }
