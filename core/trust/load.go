package trust

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"nurvik/core/facts"
	"nurvik/core/intake"
	"nurvik/core/keystore"
	"nurvik/core/pki"
	"nurvik/core/words"
)

// SystemName is the store of the operating system.
const SystemName = "system"

// Loader loads stores and remembers them. The zero value reads Debian's places.
type Loader struct {
	SystemFile string // bundle of all anchors; default /etc/ssl/certs/ca-certificates.crt
	// anchors that the distribution did not ship; default /usr/local/share/ca-certificates
	LocalDirectory string
	Named          map[string]*Store // stores that have a name of their own, such as those of an estate file
	Opener         keystore.Opener   // tried on keystores

	system *Store
}

// Load returns the store that the text names: "system", a named store, a file
// or a directory, with "public:", "private:" or "rehearsal:" in front where
// the kind is not to be found out. The error names the store.
func (l *Loader) Load(text string) (*Store, error) {
	rest, kind := text, Kind("")
	for _, k := range []Kind{Public, Private, Rehearsal} {
		if after, ok := strings.CutPrefix(text, string(k)+":"); ok {
			rest, kind = after, k
		}
	}
	if s, ok := l.Named[rest]; ok {
		return withKind(s, kind), nil
	}
	if rest == SystemName {
		s, err := l.System()
		if err != nil {
			return nil, err
		}
		return withKind(s, kind), nil
	}
	s, err := l.fromPath(text, rest, kind)
	if err != nil {
		return nil, fmt.Errorf("trust store %q: %w", text, err)
	}
	return s, nil
}

func withKind(s *Store, kind Kind) *Store {
	if kind == "" {
		return s
	}
	anchors := make([]Anchor, len(s.Anchors))
	for i, a := range s.Anchors {
		anchors[i] = Anchor{a.Certificate, kind, a.Shipped}
	}
	return New(s.Name, anchors)
}

// System loads the operating system's store. Anchors that the distribution did
// not ship are private.
func (l *Loader) System() (*Store, error) {
	if l.system != nil {
		return l.system, nil
	}
	path := orDefault(l.SystemFile, "/etc/ssl/certs/ca-certificates.crt")
	shipped, err := new(intake.Reader).ReadFile(path)
	if err != nil {
		return nil, fmt.Errorf("trust store %q: %w; install ca-certificates or name another store with --trust",
			SystemName, err)
	}
	local := map[pki.Fingerprint]bool{}
	added, err := l.readPath(orDefault(l.LocalDirectory, "/usr/local/share/ca-certificates"))
	if err != nil && !errors.Is(err, os.ErrNotExist) {
		return nil, fmt.Errorf("trust store %q: %w", SystemName, err)
	}
	for _, c := range added {
		local[c.Fingerprint()] = true
	}
	var anchors []Anchor
	for _, c := range anchorsIn(shipped...) {
		kind := Public
		if local[c.Fingerprint()] {
			kind = Private
		}
		anchors = append(anchors, Anchor{c, kind, kind == Public})
	}
	l.system = New(SystemName, anchors)
	return l.system, nil
}

func (l *Loader) fromPath(text, path string, kind Kind) (*Store, error) {
	certificates, err := l.readPath(path)
	if errors.Is(err, os.ErrNotExist) && !strings.ContainsRune(path, '/') {
		return nil, fmt.Errorf("there is neither a store nor a file of this name; known stores: %s", l.names())
	}
	if err != nil {
		return nil, err
	}
	if len(certificates) == 0 {
		return nil, errors.New("it holds no certificate")
	}
	shipped := New("", nil)
	if system, err := l.System(); err == nil { // without a system store nothing is known to be public
		shipped = system.OfKind(Public)
	}
	var anchors []Anchor
	for _, c := range certificates {
		k := kind
		_, ships := shipped.Holds(c)
		if k == "" {
			k = Private
			if ships {
				k = Public
			}
		}
		anchors = append(anchors, Anchor{c, k, ships})
	}
	return New(text, anchors), nil
}

func (l *Loader) names() string {
	names := append(slices.Sorted(maps.Keys(l.Named)), SystemName)
	return strings.Join(names, ", ")
}

// FromPEM makes a store of the certificates in the text. Without a kind they
// are private. The error says what is wrong with the text.
func FromPEM(name string, text []byte, kind Kind) (*Store, error) {
	if kind == "" {
		kind = Private
	}
	file := new(intake.Reader).Recognise(name, text)
	for _, d := range file.Defects {
		if d.Kind == facts.Damaged {
			return nil, fmt.Errorf("trust store %q: line %d: %s", name, d.Line, words.Of(d.Reason))
		}
	}
	if len(file.Certificates()) == 0 {
		return nil, fmt.Errorf("trust store %q: it holds no certificate", name)
	}
	var anchors []Anchor
	for _, c := range anchorsIn(file) {
		anchors = append(anchors, Anchor{Certificate: c, Kind: kind})
	}
	return New(name, anchors), nil
}

func (l *Loader) readPath(path string) ([]*pki.Certificate, error) {
	info, err := os.Stat(path)
	if err != nil {
		return nil, err
	}
	reader := &intake.Reader{Opener: l.Opener}
	if !info.IsDir() {
		files, err := reader.ReadFile(path)
		if err != nil {
			return nil, err
		}
		certificates := anchorsIn(files...)
		if len(certificates) == 0 {
			return nil, locked(files)
		}
		return certificates, nil
	}
	var all []*pki.Certificate
	var failure error
	err = reader.Walk(context.Background(), filepath.Clean(path),
		func(file facts.File) { all = append(all, anchorsIn(file)...) },
		func(path string, err error) { failure = fmt.Errorf("%s: %w", path, err) })
	return all, errors.Join(err, failure)
}

// locked says that a keystore stayed closed, where one did.
func locked(files []facts.File) error {
	for _, file := range files {
		for _, item := range file.Items {
			switch item.Locked {
			case "":
			case facts.NoPassword:
				return errors.New("it is a keystore that needs a password; name a file with it with " +
					"--password-file, or set NURVIK_PASSWORD")
			case facts.WrongPassword:
				return errors.New("it is a keystore, and no password that was given opens it")
			default:
				return errors.New("it is a keystore that could not be opened")
			}
		}
	}
	return nil
}

// anchorsIn are the certificates of the files. Of a keystore that marks some as trusted, only those are anchors: the
// others are chains of its own keys.
func anchorsIn(files ...facts.File) []*pki.Certificate {
	var out []*pki.Certificate
	for _, file := range files {
		certificates := file.Certificates()
		marks := slices.ContainsFunc(certificates, func(item facts.Item) bool { return item.Trusted })
		for _, item := range certificates {
			if marks && item.Container != "" && !item.Trusted {
				continue
			}
			if c, err := pki.ParseCertificate(item.DER); err == nil {
				out = append(out, c)
			}
		}
	}
	return out
}

func orDefault(value, fallback string) string {
	if value == "" {
		return fallback
	}
	return value
}

// ParseAnchor decodes a certificate as an anchor of the kind.
func ParseAnchor(der []byte, kind Kind) (Anchor, error) {
	c, err := pki.ParseCertificate(der)
	return Anchor{Certificate: c, Kind: kind}, err
}
