package serverconf

import "fmt"

// Shape is how key, leaf and intermediates are put into files.
type Shape string

// The shapes.
const (
	Bundle   Shape = "bundle"   // leaf and intermediates in one file
	Split    Shape = "split"    // leaf, and intermediates apart
	Combined Shape = "combined" // key, leaf and intermediates in one file
	Pieces   Shape = "pieces"   // each CA certificate by itself, root first, then the leaf
	Keystore Shape = "keystore" // PKCS#12 or a Java keystore
	DER      Shape = "der"      // each certificate by itself, in DER
)

// Shapes are all of them.
func Shapes() []Shape { return []Shape{Bundle, Split, Combined, Pieces, Keystore, DER} }

// Part is what a file holds, for the line that names it.
type Part string

// The parts.
const (
	PartBundle   Part = "bundle"
	PartLeaf     Part = "leaf"
	PartChain    Part = "chain"
	PartKey      Part = "key"
	PartCombined Part = "combined"
	PartKeystore Part = "keystore"
	PartRoot     Part = "root"
)

// Server is one kind of server: how it is recognised, read, written and reloaded.
type Server struct {
	Name     string
	Aliases  []string // other names that people call it by, in lower case
	Form     string   // of a line: the directive, then the value
	Serves   []string // the schemes of endpoints that it usually serves
	Shape    Shape    // the files that it wants
	Files    []FileDirective
	Reload   string   // what makes it read them
	Check    string   // what makes it check its configuration; "" where nothing does
	Main     []string // where its main file lies
	Packages []string // of Debian
	Library  string   // of TLS; OpenSSL where none is set
	// the versions in the library's own configuration bind it, whatever it is told; others set them anew
	SystemVersions bool

	Apart     bool // its settings do not stand beside the line that names the certificate
	Recognise func(path, text string) Likeness
	read      func(r *reading, path string)

	Keep func(old,
		value string) string // the value with what else the old one said; nil where nothing else is said
	TellVersions func(Wanted) (Told, bool) // how it is told to speak just these versions; false where it cannot be
}

// FileDirective names a file in the configuration.
type FileDirective struct {
	Part Part
	Name string
	Form string // instead of the server's
}

// Wanted are the versions that a server is to speak.
type Wanted struct{ TLS12, TLS13 bool }

// pick is the value for the versions that are wanted.
func (w Wanted) pick(both, only12, only13 string) string {
	switch {
	case w.TLS12 && w.TLS13:
		return both
	case w.TLS12:
		return only12
	}
	return only13
}

// Told is a directive with its value.
type Told struct {
	Directive string
	Value     string
	Note      string // what to know
}

// Lines name the files in the server's configuration; parts without a file have no line.
func (s Server) Lines(paths map[Part]string) []string {
	var out []string
	for _, d := range s.Files {
		form := d.Form
		if form == "" {
			form = s.Form
		}
		if path := paths[d.Part]; path != "" {
			out = append(out, fmt.Sprintf(form, d.Name, path))
		}
	}
	return out
}
